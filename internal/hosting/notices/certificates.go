package notices

import (
	"fmt"
	"strings"
	"time"
)

// Ending is a certificate that ends and that nothing has replaced.
type Ending struct {
	Domain string
	At     time.Time
	// Why says why it could not be renewed; empty where nobody has tried. Brought says that
	// somebody installed it by hand.
	Why      string
	Uploaded bool
}

// reason says why nothing has replaced a certificate, and what to do.
func (e Ending) reason(language string) string {
	switch {
	case e.Uploaded && e.Why == "":
		return in(language, "It was installed by hand, so a new one has to be, too. If none is, one that comes by "+
			"itself takes its place on its last day, as far as the names of the site lead here.",
			"Es wurde von Hand eingespielt, also muss auch das nächste von Hand kommen. Geschieht das nicht, tritt "+
				"am letzten Tag eines an seine Stelle, das von selbst kommt, sofern die Namen der Seite "+
				"hierher führen.")
	case e.Why == "":
		return in(language, "It could not be renewed yet.", "Es konnte noch nicht erneuert werden.")
	}
	return fmt.Sprintf(in(language, "It could not be renewed: %s. We go on trying.",
		"Es konnte nicht erneuert werden: %s. Wir versuchen es weiter."), e.Why)
}

// CertificateEnds tells a customer of a certificate that ends.
func CertificateEnds(language string, s Sender, e Ending) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "The certificate of %s ends on %s", "Das Zertifikat von %s "+
		"endet am %s"), e.Domain, e.At.UTC().Format(in(language, "2 January 2006", "02.01.2006"))),
		fmt.Sprintf(in(language, "the certificate with which visitors recognise %s ends on %s. After that, they are "+
			"warned.", "das Zertifikat, an dem Besucher %s erkennen, endet am %s. Danach werden sie gewarnt."),
			e.Domain, moment(language, e.At)),
		e.reason(language),
		in(language, "The page of the certificate tells what is to be done.",
			"Auf der Seite des Zertifikats steht, was zu tun ist."))
}

// mostListed is how many sites a message to operators names.
const mostListed = 50

// AccountRegistered tells an operator that an authority no longer knew the installation's account.
func AccountRegistered(language string, s Sender, authority string) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "%s no longer knew our account",
		"%s kannte unser Konto nicht mehr"), authority),
		in(language, "the account at this authority was unknown to it, as happens when one side is restored from a "+
			"backup. The same key has been registered again, and orders go on:",
			"das Konto bei dieser Zertifizierungsstelle war ihr unbekannt, wie es vorkommt, wenn eine Seite aus einer "+
				"Sicherung wiederhergestellt wird. Derselbe Schlüssel ist neu angemeldet, Bestellungen laufen weiter:"),
		authority)
}

// CertificatesEnd tells an operator of all certificates that customers are being told of.
func CertificatesEnd(language string, s Sender, list []Ending) Notice {
	var lines []string
	for _, e := range list[:min(len(list), mostListed)] {
		lines = append(lines, fmt.Sprintf("%s  %s\n    %s", e.At.UTC().Format("2006-01-02 15:04 UTC"), e.Domain,
			e.reason(language)))
	}
	if more := len(list) - mostListed; more > 0 {
		lines = append(lines, fmt.Sprintf(in(language, "and %d more", "und %d weitere"), more))
	}
	subject := fmt.Sprintf(in(language, "%d certificates end and were not renewed",
		"%d Zertifikate enden und wurden nicht erneuert"), len(list))
	if len(list) == 1 {
		subject = fmt.Sprintf(in(language, "The certificate of %s ends and was not renewed",
			"Das Zertifikat von %s endet und wurde nicht erneuert"), list[0].Domain)
	}
	return s.notice(language, subject,
		in(language, "nothing has replaced these certificates yet; their customers have been told as well:",
			"diese Zertifikate hat noch keines ersetzt; die Kunden wissen es auch:"), strings.Join(lines, "\n"))
}
