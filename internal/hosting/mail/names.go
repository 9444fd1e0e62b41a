package mail

// Names below a domain by which mail programs and other servers find its mail.
const (
	// ServerLabel is the mail server, under the domain's own name.
	ServerLabel = "mail"
	// SettingsLabel and SettingsLabel2 are where mail programs ask for their settings, as they have
	// agreed on two ways.
	SettingsLabel  = "autoconfig"
	SettingsLabel2 = "autodiscover"
	// PolicyLabel is where other servers ask whether mail may travel without TLS (RFC 8461, section
	// 3.3).
	PolicyLabel = "mta-sts"
	// MailboxLabel leads holders to where they look after their mailboxes in a browser.
	MailboxLabel = "webmail"
)

// WebLabels are those that a web server answers for.
var WebLabels = []string{SettingsLabel, SettingsLabel2, PolicyLabel, MailboxLabel}

// NamesOf are the names below a domain that its certificate is for, too, once they lead here.
func NamesOf(domain string) []string {
	list := []string{ServerLabel + "." + domain}
	for _, label := range WebLabels {
		list = append(list, label+"."+domain)
	}
	return list
}
