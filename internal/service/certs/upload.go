package certs

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/passwords"
	"victualler/internal/pkcs12"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// mostRequests is how many signing requests of a site may wait.
const mostRequests = 5

// MakeSigningRequest makes a key and a signing request for it. The key
// stays here and waits for the certificate.
//
// Refusals: InvalidInput, NotAllowed, NotFound, Suspended, WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) MakeSigningRequest(ctx context.Context, a usecase.Actor, reference, name string,
	in api.NewSigningRequest) (api.SigningRequest, error) {
	none := api.SigningRequest{}
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	wanted, err := found.namesOr(in.Names)
	if err != nil {
		return none, err
	}
	kind, err := certificates.ParseKeyType(in.KeyType)
	if err != nil {
		return none, err
	}
	about := certificates.Subject{Organization: usecase.OneLine(in.Organization), Unit: usecase.OneLine(in.Unit),
		Locality: usecase.OneLine(in.Locality), Province: usecase.OneLine(in.Province),
		Country: strings.ToUpper(in.Country)}
	if err := about.Check(); err != nil {
		return none, err
	}
	key, err := kind.New()
	if err != nil {
		return none, err
	}
	text, err := certificates.Request(key, wanted, about)
	if err != nil {
		return none, err
	}
	sealed, err := s.sealCertificateKey(key)
	if err != nil {
		return none, err
	}
	return withCertificateTx(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (api.SigningRequest, error) {
		waiting, err := tx.SigningRequests(ctx, c.domain.ID)
		if err != nil {
			return none, err
		}
		if len(waiting) >= mostRequests {
			return none, refusal.New(refusal.WrongState, "%d signing requests of %s wait for their certificates "+
				"already: remove one that nobody signs any more", len(waiting), usecase.Unicode(c.domain.Name))
		}
		a.Summarize("make a key and a signing request for %s", strings.Join(wanted, ", "))
		row, err := tx.AddSigningRequest(ctx, db.AddSigningRequestParams{DomainID: c.domain.ID, Names: wanted,
			Subject: about.String(), KeyType: string(kind), Key: sealed, Request: text})
		if err != nil {
			return none, err
		}
		return requestView(db.SigningRequestsRow{ID: row.ID, Names: row.Names, Subject: row.Subject,
				KeyType: row.KeyType, Request: row.Request, CreatedAt: row.CreatedAt}),
			usecase.Record(ctx, tx, a, "certificate.request", usecase.AboutAccount(c.entitlement.Account), nil,
				map[string]any{"domain": c.domain.Name, "names": wanted, "key_type": kind})
	})
}

func requestView(r db.SigningRequestsRow) api.SigningRequest {
	return api.SigningRequest{ID: r.ID, Names: r.Names, Subject: r.Subject, KeyType: r.KeyType, Request: r.Request,
		CreatedAt: r.CreatedAt}
}

// RemoveSigningRequest forgets a signing request and its key: what an
// authority makes of it cannot be used any more.
//
// Refusals: InvalidInput, NotAllowed, NotFound, Suspended, WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) RemoveSigningRequest(ctx context.Context, a usecase.Actor, reference, name string,
	number int64) error {
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return err
	}
	_, err = withCertificateTx(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (struct{}, error) {
		gone, err := tx.RemoveSigningRequest(ctx, db.RemoveSigningRequestParams{DomainID: c.domain.ID, ID: number})
		if err != nil {
			return struct{}{}, err
		}
		if gone == 0 {
			return struct{}{}, usecase.NotFound("signing request", fmt.Sprint(number))
		}
		a.Summarize("forget signing request %d of %s and its key", number, usecase.Unicode(c.domain.Name))
		return struct{}{},
			usecase.Record(ctx, tx, a, "certificate.request_removed", usecase.AboutAccount(c.entitlement.Account),
				map[string]any{"domain": c.domain.Name, "request": number}, nil)
	})
	return err
}

// InstallCertificate installs what somebody has of an authority. What is wrong with it is told, and
// nothing is changed; what is only unwise is told, too.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) InstallCertificate(ctx context.Context, a usecase.Actor, reference, name string,
	in api.UploadedCertificate) (api.InstalledCertificate, error) {
	none := api.InstalledCertificate{}
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	bundle, err := readUpload(ctx, in)
	if err != nil {
		return none, err
	}
	return withCertificateTx(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (api.InstalledCertificate, error) {
		request, err := s.findKey(ctx, tx, c.domain.ID, &bundle)
		if err != nil {
			return none, err
		}
		chain, err := completeChain(ctx, tx.Queries, bundle)
		if err != nil {
			return none, err
		}
		leaf := chain[0]
		out := api.InstalledCertificate{Names: usecase.NonNil(leaf.DNSNames), Issuer: issuerWords(leaf),
			NotAfter: leaf.NotAfter, Chain: len(chain), Remarks: []string{}}
		var remarks []language.Text
		for _, f := range append(certificates.Check(chain, bundle.Key.Public(), c.names(), s.Now()),
			bundle.CheckComplete(chain)...) {
			if f.Fatal {
				return none, refusal.Input("certificate", "%s", f.Says)
			}
			remarks = append(remarks, f.Says)
		}
		if err := s.saveIntermediates(ctx, tx.Queries, chain, false); err != nil {
			return none, err
		}
		if err := s.cancelOrderTx(ctx, tx, c, language.New("a certificate was installed by hand")); err != nil {
			return none, err
		}
		kind, _ := certificates.DescribeKey(leaf.PublicKey)
		sealed, err := s.sealCertificateKey(bundle.Key)
		if err != nil {
			return none, err
		}
		account := c.entitlement.Account
		if err := tx.DropInstalling(ctx, c.domain.ID); err != nil {
			return none, err
		}
		_, err = tx.AddCertificate(ctx, db.AddCertificateParams{DomainID: c.domain.ID,
			Names: usecase.NonNil(leaf.DNSNames), KeyType: kind, Key: sealed, Chain: certificates.PEM(chain),
			Serial:    leaf.SerialNumber.Text(16),
			NotBefore: leaf.NotBefore, NotAfter: leaf.NotAfter, Revision: account.Revision + 1})
		if err != nil {
			return none, err
		}
		now := s.Now() // it may be about to end already
		if err := tx.SaveCertificateIssued(ctx, db.SaveCertificateIssuedParams{DomainID: c.domain.ID, Mode: uploaded,
			DueAt: &now}); err != nil {
			return none, err
		}
		if request != 0 {
			if _, err := tx.RemoveSigningRequest(ctx, db.RemoveSigningRequestParams{DomainID: c.domain.ID,
				ID: request}); err != nil {
				return none, err
			}
		}
		a.Summarize("show a certificate of %s for %s, until %s", out.Issuer, strings.Join(out.Names, ", "),
			usecase.FormatTime(leaf.NotAfter))
		out.Remarks = a.SayAll(remarks)
		a.NoteAll(remarks)
		if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, "certificate.install",
			usecase.AboutAccount(account), []int64{account.ID}); err != nil {
			return none, err
		}
		return out, usecase.Record(ctx, tx, a, "certificate.install", usecase.AboutAccount(account), configRecord(c),
			map[string]any{"domain": c.domain.Name, "names": out.Names, "issuer": out.Issuer,
				"serial": leaf.SerialNumber.Text(16)})
	})
}

func readUpload(ctx context.Context, in api.UploadedCertificate) (certificates.Bundle, error) {
	text := []byte(in.Certificate)
	if !strings.Contains(in.Certificate, "-----BEGIN") {
		der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(in.Certificate), ""))
		if err != nil {
			return certificates.Bundle{}, refusal.Input("certificate", "this is neither PEM, which has lines such as "+
				"-----BEGIN CERTIFICATE-----, nor base64")
		}
		text = der
	}
	read := certificates.ReadBundle
	if certificates.IsPKCS12(text) {
		read = func(der []byte) (certificates.Bundle, error) { return readPKCS12(ctx, der, in.Password) }
	}
	b, err := read(text)
	if err == nil && in.Key != "" {
		err = b.AddKey(in.Key)
	}
	return b, err
}

// readPKCS12 opens PKCS #12 with its password.
func readPKCS12(ctx context.Context, file []byte, password string) (certificates.Bundle, error) {
	text, err := pkcs12.Open(ctx, file, password)
	switch {
	case errors.Is(err, pkcs12.ErrPassword) && password == "":
		return certificates.Bundle{}, refusal.Input("password", "this is PKCS #12: give its password, too")
	case errors.Is(err, pkcs12.ErrPassword):
		return certificates.Bundle{}, refusal.Input("password", "the password does not open it")
	case err != nil:
		return certificates.Bundle{}, refusal.Input("certificate", "the PKCS #12 cannot be read: %s", err)
	}
	return certificates.ReadBundle(text)
}

// findKey gives a bundle without a key the one that belongs to it: that of a signing request that
// was made here, of which the number is returned, or that of a certificate from before.
func (s *Service) findKey(ctx context.Context, tx store.Tx, domainID int64, b *certificates.Bundle) (request int64,
	err error) {
	waiting, err := tx.SigningRequestsWithKeys(ctx, domainID)
	if err != nil {
		return 0, err
	}
	keys, err := tx.KeysOfCertificates(ctx, domainID)
	if err != nil {
		return 0, err
	}
	for _, row := range waiting {
		if fits, err := s.keyMatches(row.Key, b); err != nil || fits {
			return row.ID, err
		}
	}
	for _, sealed := range keys {
		if fits, err := s.keyMatches(sealed, b); err != nil || fits {
			return 0, err
		}
	}
	if b.Key == nil {
		if _, err := b.Chain(nil); err != nil { // then it is not for want of a key
			return 0, err
		}
		return 0, refusal.Input("key", "no key that is here belongs to this certificate: give its key, too, or have "+
			"the authority sign a request that was made here")
	}
	return 0, nil
}

// keyMatches reports whether a sealed key belongs to a bundle, which has it then.
func (s *Service) keyMatches(sealed []byte, b *certificates.Bundle) (bool, error) {
	key, err := s.certificateKey(sealed)
	if err != nil {
		return false, err
	}
	if b.Key != nil && !certificates.EqualKeys(b.Key.Public(), key.Public()) ||
		!slices.ContainsFunc(b.Certificates, func(c *x509.Certificate) bool {
			return certificates.EqualKeys(c.PublicKey, key.Public())
		}) {
		return false, nil
	}
	b.Key = key
	return true, nil
}

// completeChain is the chain of a bundle, with certificates of
// authorities that are known from before.
func completeChain(ctx context.Context, q *db.Queries, b certificates.Bundle) ([]*x509.Certificate, error) {
	var known []*x509.Certificate
	for {
		chain, err := b.Chain(known)
		if err != nil {
			return nil, err
		}
		rows, err := q.IntermediatesOf(ctx, chain[len(chain)-1].RawIssuer)
		if err != nil {
			return nil, err
		}
		before := len(known)
		for _, der := range rows {
			if c, err := x509.ParseCertificate(der); err == nil && !slices.ContainsFunc(known, c.Equal) {
				known = append(known, c)
			}
		}
		if len(known) == before {
			return chain, nil
		}
	}
}

// saveIntermediates remembers the certificates of authorities in a chain,
// so that they complete others: those that come from an authority of ours,
// and those that lead to a root which is trusted. Others are not: somebody
// could make one in an authority's name that fits, and leads nowhere.
func (s *Service) saveIntermediates(ctx context.Context, q *db.Queries, chain []*x509.Certificate, trusted bool) error {
	if !trusted {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		authorities, err := q.Authorities(ctx)
		if err != nil {
			return err
		}
		for _, authority := range authorities {
			pool.AppendCertsFromPEM([]byte(authority.Root))
		}
		between := x509.NewCertPool()
		for _, c := range chain[1:] {
			between.AddCert(c)
		}
		found, err := chain[0].Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, CurrentTime: s.Now()})
		if err != nil {
			return nil
		}
		chain = found[0][:len(found[0])-1]
	}
	for _, c := range chain[1:] {
		digest := sha256.Sum256(c.Raw)
		if err := q.SaveIntermediate(ctx, db.SaveIntermediateParams{Digest: digest[:], Subject: c.RawSubject,
			Certificate: c.Raw}); err != nil {
			return err
		}
	}
	return nil
}

// CertificateText is what a site shows, for use elsewhere; without the key.
//
// Refusals: InvalidInput, NotFound, WrongState.
func (s *Service) CertificateText(ctx context.Context, a usecase.Actor, reference, name string) (api.CertificateText,
	error) {
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return api.CertificateText{}, err
	}
	if c.inUse == nil {
		return api.CertificateText{}, noneInUse(c)
	}
	return api.CertificateText{Chain: c.inUse.Chain}, nil
}

func noneInUse(c siteCertificate) error {
	return refusal.New(refusal.WrongState,
		"%s shows a certificate that its server has made itself, and none of an authority",
		usecase.Unicode(c.domain.Name))
}

// CertificateWithKey gives a certificate with its key to whom it belongs, who shows once more who
// they are. It is written down that they have had it.
//
// Refusals: InvalidInput, NeedsCode, NotAllowed, NotFound, TooManyTries, WrongSignIn, WrongState.
func (s *Service) CertificateWithKey(ctx context.Context, a usecase.Actor, reference, name string,
	in api.KeyProof) (api.CertificateWithKey, error) {
	none := api.CertificateWithKey{}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	if !owns(a, c.entitlement.Account) {
		return none, refusal.New(refusal.NotAllowed, "keys are given to their owner alone: to the customer of the "+
			"account, signed in as themselves and not by a token")
	}
	if c.inUse == nil {
		return none, noneInUse(c)
	}
	if err := s.proveBoth(ctx, a, in); err != nil {
		return none, err
	}
	key, err := s.keyText(c.inUse.Key)
	if err != nil {
		return none, err
	}
	out := api.CertificateWithKey{Chain: c.inUse.Chain, Key: string(key)}
	// The answer is not kept for a repeated request, so that it is nowhere but with its owner.
	return out, s.Store.InTx(ctx, func(tx store.Tx) error {
		return usecase.Record(ctx, tx, a, "certificate.key_given", usecase.AboutAccount(c.entitlement.Account), nil,
			map[string]any{"domain": c.domain.Name, "serial": c.inUse.Serial})
	})
}

// owns reports whether an account belongs to the actor, and not only to
// somebody for whom the actor works or acts.
func owns(a usecase.Actor, account db.Account) bool {
	return a.SessionID != 0 && a.OnBehalf == "" && a.Role == rights.Customer && a.CustomerID == account.CustomerID
}

// proveBoth has somebody show their password and their second factor. A
// try counts until both were right.
func (s *Service) proveBoth(ctx context.Context, a usecase.Actor, in api.KeyProof) error {
	if err := s.people.Throttle(ctx, a.Name, a.Address); err != nil {
		return err
	}
	person, err := s.Store.PersonByID(ctx, a.PersonID)
	if err != nil {
		return err
	}
	if !passwords.Matches(person.PasswordHash, in.Password) {
		return refusal.New(refusal.WrongSignIn, "that is not your present password").On("password")
	}
	if person.TotpAt == nil {
		return refusal.New(refusal.WrongState, "a key is given only to somebody with a second factor").
			Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("set one up first"), Command: "factor add"})
	}
	if err := s.Store.InTx(ctx, func(tx store.Tx) error {
		return s.people.CheckCode(ctx, tx, person, in.Code)
	}); err != nil {
		return err
	}
	return people.Succeeded(ctx, s.Store.Queries, person, a.Address)
}
