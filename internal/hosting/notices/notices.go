// Package notices writes what the installation tells people by mail, in their language.
package notices

import (
	"fmt"
	"strings"
	"time"

	"victualler/internal/hosting/language"
)

// Sender is on whose behalf a notice is written.
type Sender struct {
	// Title is the installation's or the reseller's, Footer what is below, if anything.
	Title, Footer string
}

// Notice is a message without its addresses.
type Notice struct {
	Subject, Text string
}

func (s Sender) notice(tag, subject string, paragraphs ...string) Notice {
	text := language.Say(tag, "Hello,") + "\n\n" + strings.Join(paragraphs, "\n\n") + "\n\n" + s.Title + "\n"
	if s.Footer != "" {
		text += "\n-- \n" + s.Footer + "\n"
	}
	return Notice{Subject: subject, Text: text}
}

func moment(tag string, t time.Time) string {
	return t.UTC().Format(language.Say(tag, "2 January 2006 at 15:04 UTC"))
}

// Activation tells somebody who can sign in for the first time how to.
func Activation(tag string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(tag, language.Say(tag, "Your access to %s", s.Title),
		language.Say(tag, "you can now sign in to look after your hosting. Your sign-in name is %s.", name),
		language.Say(tag, "Choose a password here:")+"\n"+link,
		language.Say(tag, "The link works once, until %s.",
			moment(tag, ends)))
}

// NewPassword brings the link with which a new password can be set.
func NewPassword(tag string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(tag, language.Say(tag, "A new password for %s", s.Title),
		language.Say(tag, "somebody, probably you, has asked for a new password for the sign-in name %s. "+
			"Choose one here:", name)+"\n"+link,
		language.Say(tag, "The link works once, until %s. If it was not you, do nothing: the old password stays.",
			moment(tag, ends)))
}

// SignIn brings the link that signs in without a password.
func SignIn(tag string, s Sender, name, link string, ends time.Time) Notice {
	return s.notice(tag, language.Say(tag, "Sign in to %s", s.Title),
		language.Say(tag, "this link signs you in as %s:", name)+"\n"+link,
		language.Say(tag, "It works once, until %s.", moment(tag, ends)))
}

// Changed tells somebody what was changed about their sign-in.
func Changed(tag string, s Sender, name, what string, at time.Time) Notice {
	told := map[string]string{
		"password":         language.Say(tag, "The password was changed."),
		"second-factor":    language.Say(tag, "The second factor was switched on."),
		"no-second-factor": language.Say(tag, "The second factor was switched off."),
	}[what]
	return s.notice(tag, language.Say(tag, "Your sign-in to %s was changed", s.Title),
		language.Say(tag, "about the sign-in name %s, on %s:", name,
			moment(tag, at))+"\n"+told,
		language.Say(tag, "If it was not you, answer this message at once."))
}

// Test shows that mail goes out.
func Test(tag string, s Sender) Notice {
	return s.notice(tag, language.Say(tag, "%s: mail goes out", s.Title),
		language.Say(tag, "this message shows that notices arrive."))
}

// Sheet is what a customer needs to know to start. It has no password on it.
type Sheet struct {
	Customer, Account, Console, Plan string
	Domains, Addresses, NameServers  []string
	// People are sign-in names for the console; Limits are lines such as "disk space: 5G".
	People, Limits []string
}

// Text writes the sheet for reading, printing and mailing.
func (h Sheet) Text(tag string) string {
	var b strings.Builder
	line := func(label string, values ...string) {
		for i, v := range values {
			if i > 0 {
				label = ""
			}
			fmt.Fprintf(&b, "%-26s %s\n", label, v)
		}
	}
	fmt.Fprintf(&b, "%s %s\n\n", language.Say(tag, "Hosting of"), h.Domains[0])
	line(language.Say(tag, "Customer:"), h.Customer)
	line(language.Say(tag, "Plan:"), h.Plan)
	line(language.Say(tag, "Domains:"), h.Domains...)
	b.WriteString("\n")
	line(language.Say(tag, "To sign in:"), h.Console)
	line(language.Say(tag, "Sign-in name there:"), h.People...)
	line(language.Say(tag, "Name of the account:"), h.Account)
	b.WriteString("\n")
	if len(h.NameServers) > 0 {
		b.WriteString(language.Say(tag, "Enter these name servers at your registrar:\n"))
		line(language.Say(tag, "Name servers:"), h.NameServers...)
		b.WriteString(language.Say(tag, "Or, if your DNS stays where it is, these addresses:\n"))
	} else {
		b.WriteString(language.Say(tag, "Enter these addresses where your DNS is hosted:\n"))
	}
	for _, address := range h.Addresses {
		kind := "A"
		if strings.Contains(address, ":") {
			kind = "AAAA"
		}
		line(kind+":", address)
	}
	b.WriteString("\n")
	line(language.Say(tag, "What is in it:"), h.Limits...)
	return b.String()
}

// Handover mails a handover sheet.
func Handover(tag string, s Sender, h Sheet) Notice {
	return s.notice(tag, language.Say(tag, "Your hosting of %s", h.Domains[0]),
		language.Say(tag, "your hosting is ready. This is what you need to begin:"),
		strings.TrimSpace(h.Text(tag)))
}
