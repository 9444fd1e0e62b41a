package usecase

import (
	"fmt"
	"net/mail"
	"strings"
	"time"

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
func ListSome(accounts []db.AccountsOnPlanRow) string {
	const most = 20
	var names []string
	for i, account := range accounts {
		if i == most {
			names = append(names, fmt.Sprintf("and %d more", len(accounts)-most))
			break
		}
		names = append(names, fmt.Sprintf("%s (%s)", Unicode(account.MainDomain), account.SignInName))
	}
	return strings.Join(names, ", ")
}

// AreIs counts in a sentence: "1 account is", "3 accounts are".
func AreIs(n int, what string) string {
	if n == 1 {
		return "1 " + what + " is"
	}
	return fmt.Sprintf("%d %ss are", n, what)
}

// Link is an address of the console.
func Link(settings db.Setting, format string, args ...any) string {
	return settings.Console + fmt.Sprintf(format, args...)
}

// Counted counts: "1 account", "3 accounts".
func Counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
