package api

// Versioned is a document that counts its changes; the count is its ETag (RFC 9110, section 8.8.3).
type Versioned interface{ ETagVersion() int64 }

// Begun is an answer that may name the operation in which the work goes
// on; 0 says that there is none.
type Begun interface{ OperationNumber() int64 }

// ETagVersion implements [Versioned].
func (d Authority) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d BrandInForce) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Customer) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d DomainChanged) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d LoginChanged) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d MailboxChanged) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Person) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Plan) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Reseller) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Server) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Settings) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d CertificateChanged) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d Template) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d TemplateChanged) ETagVersion() int64 { return d.Version }

// ETagVersion implements [Versioned].
func (d ZoneChanged) ETagVersion() int64 { return d.Version }

// OperationNumber implements [Begun].
func (d BrandInForce) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d DomainChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d FolderChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d InstalledCertificate) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Joining) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d LoginChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d MailboxChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d NameServersChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Opening) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d PlanChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d ResellerSuspended) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Server) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Settings) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Shifted) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d CertificateChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d Started) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d TemplateChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d TermsChanged) OperationNumber() int64 { return d.Operation }

// OperationNumber implements [Begun].
func (d ZoneChanged) OperationNumber() int64 { return d.Operation }
