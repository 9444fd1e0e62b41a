package names

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"victualler/internal/hosting/refusal"
)

// Bounds of a sign-in name, in characters. It is a system user's name, a
// directory's, a PHP pool's, and later the prefix of database names, where room is short.
const (
	MinSignIn = 2
	MaxSignIn = 16
)

// reserved are names no account may have: users of Debian's packages, names
// that mail or people would take for somebody in charge, and names of
// directories below /home.
var reserved = map[string]bool{}

func init() {
	for _, name := range strings.Fields(`
		root daemon bin sys sync games man lp mail news uucp proxy backup list irc gnats nobody
		ftp sshd ssh sftp messagebus postfix postdrop dovecot dovenull vmail opendkim knot bind named mysql mariadb postgres redis
		nginx apache httpd www php caddy memcache ntp chrony unbound polkitd debian ubuntu systemd adm tty disk kmem dialout fax voice
		cdrom floppy tape sudo wheel audio dip operator src shadow utmp video sasl plugdev staff users nogroup input kvm render crontab
		admin administrator administration abuse hostmaster postmaster webmaster webmail support security info billing sales help noc
		victualler agent service api console server servers test guest anonymous user account accounts customer reseller home lostfound
		tmp default localhost autoconfig autodiscover imap pop smtp ns dns mx`) {
		reserved[name] = true
	}
}

// CheckSignIn refuses a name that cannot be an account's sign-in name.
func CheckSignIn(name string) error {
	refuse := func(format string, args ...any) error { return refusal.Input("sign_in_name", format, args...) }
	switch {
	case name == "":
		return refuse("a sign-in name is needed")
	case len(name) < MinSignIn || len(name) > MaxSignIn:
		return refuse("a sign-in name has %d to %d characters; this one has %d", MinSignIn, MaxSignIn, len(name))
	case strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789") != "":
		return refuse("a sign-in name has lower-case letters a to z and digits only")
	case name[0] >= '0' && name[0] <= '9':
		return refuse("a sign-in name starts with a letter")
	case reserved[name]:
		return refuse("“%s” is reserved for the system; choose another name", name)
	}
	return nil
}

// ProposeSignIn makes a sign-in name from a domain that taken does not report
// as used. It is short, stays the same for the same input, and always found.
func ProposeSignIn(d Domain, taken func(string) bool) string {
	label, _, _ := strings.Cut(d.Unicode(), ".")
	stem := plainLetters(label)
	if len(stem) < MinSignIn {
		stem = "site" + stem
	}
	stem = cut(stem, MaxSignIn)
	for n := 1; ; n++ {
		name := stem
		if n > 1 {
			digits := fmt.Sprint(n)
			name = cut(stem, MaxSignIn-len(digits)) + digits
		}
		if CheckSignIn(name) == nil && !taken(name) {
			return name
		}
	}
}

// plainLetters keeps what can be in a sign-in name; accents are dropped by
// compatibility decomposition (Unicode normalization form KD).
func plainLetters(label string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(label)) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case r == 'ß':
			b.WriteString("ss")
		case r == 'æ':
			b.WriteString("ae")
		case r == 'ø':
			b.WriteString("o")
		}
	}
	return strings.TrimLeftFunc(b.String(), unicode.IsDigit)
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}
