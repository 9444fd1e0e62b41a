// Package mail decides about mail addresses: how their local parts may look, which there are beside
// mailboxes, and where a message to one of them ends.
package mail

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
)

// CatchAll is the local part of the address that gets what no other address of a domain does.
const CatchAll = "*"

// Separator parts a local part from what its holder has added to it: mail to anna+shop@ is anna@'s
// (RFC 5233).
const Separator = "+"

// longestLocal is the longest local part in octets (RFC 5321, section 4.5.3.1.1).
const longestLocal = 64

// Address is an address of one domain.
type Address struct {
	// Local is in lower case, or [CatchAll].
	Local  string
	Domain names.Domain
}

// String is the address as programs write it.
func (a Address) String() string { return a.Local + "@" + a.Domain.String() }

// Unicode is the address as people write it.
func (a Address) Unicode() string { return a.Local + "@" + a.Domain.Unicode() }

// letters are what is written for letters that a local part cannot have here.
var letters = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "æ", "ae", "ø", "oe", "å", "aa",
	"é", "e", "è", "e", "ê", "e", "á", "a", "à", "a", "â", "a", "ó", "o", "ô", "o", "í", "i", "ú", "u", "ñ", "n",
	"ç", "c")

// ParseLocal reads a local part as people type it: with the domain behind it or without, in capital
// letters, with spaces around. What was put right is told. Local parts are of letters, digits,
// dots, hyphens and underscores; others are not offered, as many programs get them wrong: quoted
// ones, and such in other scripts (RFC 6531).
//
// Refusals: InvalidInput.
func ParseLocal(typed string, domain names.Domain) (local string, corrections []language.Text, err error) {
	refuse := func(format string, args ...any) (string, []language.Text, error) {
		return "", nil, refusal.Input("address", format, args...)
	}
	local = strings.TrimSpace(typed)
	if before, after, has := strings.Cut(local, "@"); has {
		given, _, err := names.ParseDomain(after)
		if err != nil || given != domain {
			return refuse("%s is not an address of %s; type what goes before the @", typed, domain.Unicode())
		}
		local = before
	}
	if lower := strings.ToLower(local); lower != local {
		corrections = append(corrections, language.New("%s is written in small letters: %s", local, lower))
		local = lower
	}
	if local == CatchAll {
		return local, corrections, nil
	}
	switch {
	case local == "":
		return refuse("type what goes before the @, such as info")
	case len(local) > longestLocal:
		return refuse("%s is too long: %d characters at most", local, longestLocal)
	case strings.Contains(local, Separator):
		return refuse("%s needs no address of its own: mail to anna+shop@%s reaches anna@%s", local,
			domain.Unicode(), domain.Unicode())
	case strings.ContainsAny(local, " \t"):
		return refuse("an address has no spaces; write %s", strings.Join(strings.Fields(local), "."))
	}
	if !wellFormed(local) {
		if plain := letters.Replace(local); plain != local && wellFormed(plain) {
			return refuse("%s: letters are a to z; write %s", local, plain)
		}
		return refuse("%s: an address has letters from a to z, digits, and dots, hyphens and underscores between them",
			local)
	}
	return local, corrections, nil
}

func wellFormed(local string) bool {
	if !utf8.ValidString(local) || strings.Contains(local, "..") || strings.Trim(local, ".-_") != local {
		return false
	}
	return !strings.ContainsFunc(local, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && !strings.ContainsRune(".-_", r)
	})
}

// Roles are the local parts that every domain with mail has (RFC 2142): whoever has to tell of
// something can always do so.
var Roles = []string{"abuse", "hostmaster", "postmaster", "webmaster"}

// IsRole reports whether a local part is one of [Roles].
func IsRole(local string) bool { return slices.Contains(Roles, local) }

// Split reads an address in its final form.
func Split(address string) (local string, domain names.Domain, err error) {
	before, after, has := strings.Cut(address, "@")
	if !has {
		return "", domain, language.Errorf("%q is no mail address", address)
	}
	domain, _, err = names.ParseDomain(after)
	if err != nil || domain.String() != after {
		return "", domain, language.Errorf("%q has no domain in its final form", address)
	}
	local, corrections, err := ParseLocal(before, domain)
	if err == nil && (len(corrections) > 0 || local != before) {
		err = language.Errorf("%q is not in its final form", address)
	}
	return local, domain, err
}

// ParseTarget reads an address that messages are passed on to, as people type it. Its local part is
// somebody else's business: whatever the standard allows without quotes, in the case that it was
// typed in (RFC 5321, section 4.1.2).
//
// Refusals: InvalidInput.
func ParseTarget(typed string) (string, error) {
	local, after, has := strings.Cut(strings.TrimSpace(typed), "@")
	domain, _, err := names.ParseDomain(after)
	if !has || err != nil || local == "" {
		return "", refusal.Input("targets", "%s is no mail address; write it with its domain, such as "+
			"anna@harbourmail.test", typed)
	}
	if address := local + "@" + domain.String(); IsAddress(address) {
		return address, nil
	}
	return "", refusal.Input("targets", "%s is an address that mail cannot be passed on to", typed)
}

// atoms are what a local part without quotes is made of (RFC 5321, section 4.1.2).
var atoms = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*$")

// IsAddress reports whether a text is an address in its final form that mail can be passed on to:
// no program is to be run by it, and no file written (aliases(5)).
func IsAddress(address string) bool {
	local, after, has := strings.Cut(address, "@")
	if !has || len(local) > longestLocal || !atoms.MatchString(local) || strings.ContainsAny(local[:1], "|/-") {
		return false
	}
	domain, _, err := names.ParseDomain(after)
	return err == nil && domain.String() == after
}

// HashForm is how the hash of a password looks: bcrypt's, as Dovecot names it.
var HashForm = regexp.MustCompile(`^\{BLF-CRYPT\}\$2[aby]\$[0-9]{2}\$[./A-Za-z0-9]{53}$`)
