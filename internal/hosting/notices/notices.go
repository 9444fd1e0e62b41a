// Package notices writes what the installation tells people by mail, in their language.
package notices

import (
	"fmt"
	"strings"
	"time"

	"victualler/internal/hosting/plans"
)

// Languages lists the languages of notices (RFC 5646).
var Languages = []string{"en", "de"}

// Sender is on whose behalf a notice is written.
type Sender struct {
	// Title is the installation's or the reseller's, Footer what is below, if anything.
	Title, Footer string
}

// Notice is a message without its addresses.
type Notice struct {
	Subject, Text string
}

// in chooses the language.
func in(language, en, de string) string {
	if language == "de" {
		return de
	}
	return en
}

func (s Sender) notice(language, subject string, paragraphs ...string) Notice {
	text := in(language, "Hello,", "Guten Tag,") + "\n\n" + strings.Join(paragraphs, "\n\n") + "\n\n" + s.Title + "\n"
	if s.Footer != "" {
		text += "\n-- \n" + s.Footer + "\n"
	}
	return Notice{Subject: subject, Text: text}
}

func moment(language string, t time.Time) string {
	return t.UTC().Format(in(language, "2 January 2006 at 15:04 UTC", "02.01.2006 um 15:04 Uhr UTC"))
}

// Activation tells somebody who can sign in for the first time how to.
func Activation(language string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "Your access to %s", "Ihr Zugang zu %s"), s.Title),
		fmt.Sprintf(in(language, "you can now sign in to look after your hosting. Your sign-in name is %s.",
			"Sie können sich jetzt anmelden und Ihr Hosting selbst verwalten. Ihr Anmeldename ist %s."), name),
		in(language, "Choose a password here:", "Wählen Sie hier ein Passwort:")+"\n"+link,
		fmt.Sprintf(in(language, "The link works once, until %s.", "Der Link gilt einmal, bis %s."),
			moment(language, ends)))
}

// NewPassword brings the link with which a new password can be set.
func NewPassword(language string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "A new password for %s", "Ein neues Passwort für %s"), s.Title),
		fmt.Sprintf(in(language, "somebody, probably you, has asked for a new password for the sign-in name %s. "+
			"Choose one here:", "jemand, vermutlich Sie, hat ein neues Passwort für den Anmeldenamen %s angefordert. "+
			"Wählen Sie es hier:"), name)+"\n"+link,
		fmt.Sprintf(
			in(language, "The link works once, until %s. If it was not you, do nothing: the old password stays.",
				"Der Link gilt einmal, bis %s. Waren Sie es nicht, tun Sie nichts: das alte Passwort bleibt."),
			moment(language, ends)))
}

// SignIn brings the link that signs in without a password.
func SignIn(language string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "Sign in to %s", "Anmeldung bei %s"), s.Title),
		fmt.Sprintf(in(language, "this link signs you in as %s:", "dieser Link meldet Sie als %s an:"), name)+"\n"+link,
		fmt.Sprintf(in(language, "It works once, until %s.", "Er gilt einmal, bis %s."), moment(language, ends)))
}

// Changed tells somebody what was changed about their sign-in.
func Changed(language string, s Sender, name, what string, at time.Time) Notice {
	told := map[string]string{
		"password": in(language, "The password was changed.", "Das Passwort wurde geändert."),
		"second-factor": in(language, "The second factor was switched on.",
			"Der zweite Faktor wurde eingeschaltet."),
		"no-second-factor": in(language, "The second factor was switched off.",
			"Der zweite Faktor wurde ausgeschaltet."),
	}[what]
	return s.notice(language, fmt.Sprintf(in(language, "Your sign-in to %s was changed", "Ihre Anmeldung bei %s "+
		"wurde geändert"), s.Title),
		fmt.Sprintf(in(language, "about the sign-in name %s, on %s:", "zum Anmeldenamen %s, am %s:"), name,
			moment(language, at))+"\n"+told,
		in(language, "If it was not you, answer this message at once.",
			"Waren Sie es nicht, antworten Sie bitte sofort auf diese Nachricht."))
}

// Test shows that mail goes out.
func Test(language string, s Sender) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "%s: mail goes out", "%s: Post geht hinaus"), s.Title),
		in(language, "this message shows that notices arrive.",
			"diese Nachricht zeigt, dass Benachrichtigungen ankommen."))
}

// Sheet is what a customer needs to know to start. It has no password on it.
type Sheet struct {
	Customer, Account, Console, Plan string
	Domains, Addresses, NameServers  []string
	// People are sign-in names for the console; Limits are lines such as "disk space: 5G".
	People, Limits []string
}

// Text writes the sheet for reading, printing and mailing.
func (h Sheet) Text(language string) string {
	var b strings.Builder
	line := func(label string, values ...string) {
		for i, v := range values {
			if i > 0 {
				label = ""
			}
			fmt.Fprintf(&b, "%-26s %s\n", label, v)
		}
	}
	fmt.Fprintf(&b, "%s %s\n\n", in(language, "Hosting of", "Hosting für"), h.Domains[0])
	line(in(language, "Customer:", "Kunde:"), h.Customer)
	line(in(language, "Plan:", "Tarif:"), h.Plan)
	line(in(language, "Domains:", "Domains:"), h.Domains...)
	b.WriteString("\n")
	line(in(language, "To sign in:", "Anmelden:"), h.Console)
	line(in(language, "Sign-in name there:", "Anmeldename dort:"), h.People...)
	line(in(language, "Name of the account:", "Name des Kontos:"), h.Account)
	b.WriteString("\n")
	if len(h.NameServers) > 0 {
		b.WriteString(in(language, "Enter these name servers at your registrar:\n",
			"Diese Nameserver beim Registrar eintragen:\n"))
		line(in(language, "Name servers:", "Nameserver:"), h.NameServers...)
		b.WriteString(in(language, "Or, if your DNS stays where it is, these addresses:\n",
			"Oder, wenn der Namensdienst bleibt, wo er ist, diese Adressen:\n"))
	} else {
		b.WriteString(in(language, "Enter these addresses where your DNS is hosted:\n",
			"Diese Adressen beim Namensdienst eintragen:\n"))
	}
	for _, address := range h.Addresses {
		kind := "A"
		if strings.Contains(address, ":") {
			kind = "AAAA"
		}
		line(kind+":", address)
	}
	b.WriteString("\n")
	line(in(language, "What is in it:", "Was dazugehört:"), h.Limits...)
	return b.String()
}

// Handover mails a handover sheet.
func Handover(language string, s Sender, h Sheet) Notice {
	return s.notice(language, fmt.Sprintf(in(language, "Your hosting of %s", "Ihr Hosting für %s"), h.Domains[0]),
		in(language, "your hosting is ready. This is what you need to begin:",
			"Ihr Hosting ist bereit. Das brauchen Sie zum Anfangen:"),
		strings.TrimSpace(h.Text(language)))
}

// german are the names of limits that stand on handover sheets.
var german = map[plans.Key]string{plans.Disk: "Speicherplatz", plans.Traffic: "Verkehr im Kalendermonat",
	plans.Domains:   "Domains",
	plans.Mailboxes: "Postfächer", plans.Databases: "Datenbanken"}

// LimitName is what a limit is called; what is its name in English.
func LimitName(language string, key plans.Key, what string) string {
	if name, known := german[key]; known {
		return in(language, what, name)
	}
	return what
}

// Amount is an amount as it is written in English, in another language.
func Amount(language, text string) string {
	if text == "unlimited" {
		return in(language, text, "unbegrenzt")
	}
	return text
}
