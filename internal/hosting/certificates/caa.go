package certificates

import (
	"fmt"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
)

// CAA is a record that says who may issue (RFC 8659).
type CAA struct {
	Critical   bool
	Tag, Value string
}

// ParseCAA reads a record's data in presentation form, such as 0 issue "authority.test".
func ParseCAA(data string) (CAA, error) {
	flags, rest, _ := strings.Cut(strings.TrimSpace(data), " ")
	tag, value, found := strings.Cut(strings.TrimSpace(rest), " ")
	if !found {
		return CAA{}, fmt.Errorf("%q is no CAA record", data)
	}
	var flag int
	if _, err := fmt.Sscan(flags, &flag); err != nil {
		return CAA{}, fmt.Errorf("%q is no CAA record: %w", data, err)
	}
	value = strings.TrimSpace(value)
	value = strings.NewReplacer(`\"`, `"`, `\;`, ";", `\\`,
		`\`).Replace(strings.TrimSuffix(strings.TrimPrefix(value, `"`), `"`))
	return CAA{Critical: flag&128 != 0, Tag: strings.ToLower(tag), Value: value}, nil
}

// Issuing is what is asked of CAA records: may this authority, by this
// method, for this account, issue a certificate?
type Issuing struct {
	// Identities are the names by which the authority knows itself (RFC 8555, section 9.7.6).
	Identities []string
	Wildcard   bool
	// Method is a kind of challenge, such as "http-01"; AccountURL the
	// account's at the authority (RFC 8657).
	Method, AccountURL string
}

// Forbidden tells in words why the records that count for a name forbid to issue; empty if they do
// not. No records forbid nothing.
func (i Issuing) Forbidden(records []CAA) language.Text {
	var plain, wild []string
	for _, r := range records {
		switch r.Tag {
		case "issue":
			plain = append(plain, r.Value)
		case "issuewild":
			wild = append(wild, r.Value)
		case "issuemail", "iodef", "contactemail", "contactphone":
		default:
			if r.Critical {
				return say("a critical CAA record has the tag %q, which authorities do not know", r.Tag)
			}
		}
	}
	counts, tag := plain, "issue"
	if i.Wildcard && len(wild) > 0 {
		counts, tag = wild, "issuewild"
	}
	if len(counts) == 0 {
		return language.Text{}
	}
	if len(i.Identities) == 0 {
		return say("there are CAA records, and the authority does not say by which name it knows itself")
	}
	var others []language.Text
	for _, value := range counts {
		other, ours := i.allowedBy(value)
		if ours {
			return language.Text{}
		}
		if !other.IsZero() && !slices.ContainsFunc(others, func(o language.Text) bool {
			return o.String() == other.String()
		}) {
			others = append(others, other)
		}
	}
	if len(others) == 0 {
		return say("the CAA records (%s) allow nobody to issue", tag)
	}
	return say("the CAA records (%s) allow only %s", tag, language.Join(others, "; "))
}

// allowedBy says whom a record allows to issue, in words, and whether that is what is asked for.
// Nobody is nothing.
func (i Issuing) allowedBy(value string) (language.Text, bool) {
	who, parameters, _ := strings.Cut(value, ";")
	who = strings.ToLower(strings.TrimSpace(who))
	if !slices.Contains(i.Identities, who) {
		return language.Plain(who), false
	}
	for _, p := range strings.Split(parameters, ";") {
		key, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		value = strings.TrimSpace(value)
		switch strings.ToLower(strings.TrimSpace(key)) {
		case "accounturi":
			if value != i.AccountURL {
				return say("%s for another account (%s)", who, value), false
			}
		case "validationmethods":
			methods := strings.Split(value, ",")
			for n := range methods {
				methods[n] = strings.TrimSpace(methods[n])
			}
			if !slices.Contains(methods, i.Method) {
				return say("%s by %s", who, strings.Join(methods, ", ")), false
			}
		}
	}
	return language.Plain(who), true
}
