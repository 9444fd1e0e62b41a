package usecase

import (
	"fmt"
	"net/mail"
	"strings"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store/db"
)

// NonNil makes a list that JSON writes as [], never as null.
func NonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// HomeOf is the path of an account's home on its server.
func HomeOf(account db.Account) string {
	return manifest.Manifest{SignInName: account.SignInName}.HomePath()
}

// OneLine puts the spaces of a name or the like right.
func OneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// MailAddress checks an address that may be left out (RFC 5322, section 3.4.1).
func MailAddress(field, text string) (*string, error) {
	if text == "" {
		return nil, nil
	}
	address, err := mail.ParseAddress(text)
	if err != nil || address.Address != text || len(text) > 254 {
		return nil, refusal.Input(field, "%q is not a mail address; write it as name@domain", text)
	}
	return &text, nil
}

// Unicode writes a domain as people read it; what is no domain stays as it is.
func Unicode(ascii string) string {
	domain, _, err := names.ParseDomain(ascii)
	if err != nil {
		return ascii
	}
	return domain.Unicode()
}

// FormatTime writes a time into mail and reasons, in UTC.
func FormatTime(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

// OrEmpty is text, or otherwise where there is none.
func OrEmpty(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// ListSome names the first accounts of a list, and how many there are besides.
func ListSome(accounts []db.AccountsOnPlanRow) []language.Text {
	const most = 20
	var list []language.Text
	for i, account := range accounts {
		if i == most {
			return append(list, language.New("and %d more", len(accounts)-most))
		}
		list = append(list, language.New("%s (%s)", Unicode(account.MainDomain), account.SignInName))
	}
	return list
}

// Link is an address of the console.
func Link(settings db.Setting, format string, args ...any) string {
	return settings.Console + fmt.Sprintf(format, args...)
}

// words are what people call the codes that sentences have in them: states, how a domain is served,
// and what events are of. In English they are the codes.
var words = map[string]string{"active": "active", "suspended": "suspended", "opening": "opening", "closing": "closing",
	"closed": "closed", "site": "site", "mirror": "mirror", "redirect": "redirect", "dns-only": "dns-only",
	"customer": "customer", "authority": "authority", "settings": "settings", "notes": "notes", "here": "here",
	"elsewhere": "elsewhere", "operator": "operator", "reseller": "reseller", "allotted": "allotted", "used": "used",
	"automatic": "automatic", "uploaded": "uploaded", "self-signed": "self-signed",
	"domains": "domain", "subdomains": "subdomain", "mirrors": "mirror", "joining": "joining",
	"up": "up", "down": "down", "all": "sending and receiving", "sending": "sending", "receiving": "receiving"}

// Word is a code in a sentence, to be said in any language.
func Word(code string) language.Text { return language.Plain(OrEmpty(words[code], code)) }

// counts are the formats of [Counted]: what is counted, one and several of them.
var counts = map[string][2]string{
	"account":      {"%d account", "%d accounts"},
	"customer":     {"%d customer", "%d customers"},
	"difference":   {"%d difference", "%d differences"},
	"mail address": {"%d mail address", "%d mail addresses"},
	"list":         {"%d list", "%d lists"},
	"member":       {"%d member", "%d members"},
	"mailbox":      {"%d mailbox", "%d mailboxes"},
	"message":      {"%d message", "%d messages"},
	"file":         {"%d file", "%d files"},
	"own record":   {"%d own record", "%d own records"},
	"plan":         {"%d plan", "%d plans"},
	"record":       {"%d record", "%d records"},
	"set":          {"%d set", "%d sets"},
	"site":         {"%d site", "%d sites"},
}

// Counted counts: "1 account", "3 accounts". It panics for what is not in the table.
func Counted(n int, what string) language.Text {
	formats, known := counts[what]
	if !known {
		panic("there are no words to count " + what)
	}
	if n == 1 {
		return language.New(formats[0], n)
	}
	return language.New(formats[1], n)
}
