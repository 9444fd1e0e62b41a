package notices

import (
	"fmt"
	"strings"
	"time"

	"victualler/internal/hosting/language"
)

// Ending is a certificate that ends and that nothing has replaced.
type Ending struct {
	Domain string
	At     time.Time
	// Why says why it could not be renewed; empty where nobody has tried. Brought says that
	// somebody installed it by hand.
	Why      language.Text
	Uploaded bool
}

// reason says why nothing has replaced a certificate, and what to do.
func (e Ending) reason(tag string) string {
	switch {
	case e.Uploaded && e.Why.IsZero():
		return language.Say(tag,
			"It was installed by hand, so a new one has to be, too. Otherwise, an automatic "+
				"one replaces it on its last day, for the names that lead here.")
	case e.Why.IsZero():
		return language.Say(tag, "It could not be renewed yet.")
	}
	return language.Say(tag, "It could not be renewed: %s. We go on trying.", e.Why)
}

// CertificateEnds tells a customer of a certificate that ends.
func CertificateEnds(tag string, s Sender, e Ending) Notice {
	return s.notice(tag, language.Say(tag, "The certificate of %s ends on %s", e.Domain,
		e.At.UTC().Format(language.Say(tag, "2 January 2006"))),
		language.Say(tag, "the certificate with which visitors recognise %s ends on %s. After that, they are "+
			"warned.", e.Domain, moment(tag, e.At)),
		e.reason(tag),
		language.Say(tag, "The page of the certificate tells what is to be done."))
}

// mostListed is how many sites a message to operators names.
const mostListed = 50

// AccountRegistered tells an operator that an authority no longer knew the installation's account.
func AccountRegistered(tag string, s Sender, authority string) Notice {
	return s.notice(tag, language.Say(tag, "%s no longer knew our account", authority),
		language.Say(tag, "the account at this authority was unknown to it, as happens when one side is restored "+
			"from a "+
			"backup. The same key has been registered again, and orders go on:"),
		authority)
}

// CertificatesEnd tells an operator of all certificates that customers are being told of.
func CertificatesEnd(tag string, s Sender, list []Ending) Notice {
	var lines []string
	for _, e := range list[:min(len(list), mostListed)] {
		lines = append(lines, fmt.Sprintf("%s  %s\n    %s", e.At.UTC().Format("2006-01-02 15:04 UTC"), e.Domain,
			e.reason(tag)))
	}
	if more := len(list) - mostListed; more > 0 {
		lines = append(lines, language.Say(tag, "and %d more", more))
	}
	subject := language.Say(tag, "%d certificates end and were not renewed", len(list))
	if len(list) == 1 {
		subject = language.Say(tag, "The certificate of %s ends and was not renewed", list[0].Domain)
	}
	return s.notice(tag, subject,
		language.Say(tag, "nothing has replaced these certificates yet; their customers have been told as well:"),
		strings.Join(lines, "\n"))
}
