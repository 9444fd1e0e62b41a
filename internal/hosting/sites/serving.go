package sites

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
)

// ServedAs is what a domain is good for.
type ServedAs string

// The ways to serve a domain.
const (
	Site     ServedAs = "site"     // a document root of its own
	Mirror   ServedAs = "mirror"   // the content of another domain's site
	Redirect ServedAs = "redirect" // visitors are sent elsewhere
	DNSOnly  ServedAs = "dns-only" // no web server answers for it
)

// Redirection tells where visitors are sent.
type Redirection struct {
	// Target is an absolute address in its final form; see [ParseTarget].
	Target string `json:"target"`
	// Code is the status of the answer (RFC 9110, section 15.4): 301 or 308 for good, 302 or 307
	// for now; 307 and 308 have the method and content sent again.
	Code int `json:"code"`
	// KeepPath appends the path that was asked for to the target's,
	// KeepQuery what stood behind the question mark.
	KeepPath  bool `json:"keep_path"`
	KeepQuery bool `json:"keep_query"`
}

// RedirectCodes are the statuses a redirect can have.
var RedirectCodes = []int{301, 302, 307, 308}

// Check refuses a redirection that is not in its final form.
func (r Redirection) Check() error {
	target, _, err := ParseTarget(r.Target)
	if err == nil && target != r.Target {
		err = refusal.Input("target", "%q is not in its final form (%s)", r.Target, target)
	}
	if err == nil && !slices.Contains(RedirectCodes, r.Code) {
		err = refusal.Input("code", "%d is no status of a redirect; 301 and 308 are for good, 302 and 307 for now",
			r.Code)
	}
	if err == nil && (r.KeepPath || r.KeepQuery) && strings.Contains(target, "#") {
		err = refusal.Input("target", "a target with a # in it cannot have the path or query appended")
	}
	if err == nil && r.KeepPath && strings.Contains(target, "?") {
		err = refusal.Input("target", "a target with a ? in it cannot have the path appended")
	}
	return err
}

const mostTarget = 1500

// ParseTarget reads where a redirect leads, as people type it: with or without a
// scheme. The final form is an absolute http or https address (RFC 9110, section
// 4.2) of ASCII alone, safe to stand unquoted in a configuration file; it ends
// without a slash if there is no path. What was put right is told in words.
func ParseTarget(typed string) (target string, corrections []language.Text, err error) {
	text := strings.TrimSpace(typed)
	refuse := func(format string, args ...any) (string, []language.Text, error) {
		return "", nil, refusal.Input("target", format, args...)
	}
	switch {
	case text == "":
		return refuse("a redirect needs a target, such as https://ferries.example/timetable")
	case len(text) > mostTarget:
		return refuse("the target has %d characters; at most %d are possible", len(text), mostTarget)
	case !strings.Contains(text, "://"):
		text = "https://" + text
		corrections = append(corrections, language.New("https:// put before the target"))
	}
	u, parseErr := url.Parse(text)
	if parseErr != nil || u.Host == "" {
		return refuse("%q is not an address; write it such as https://ferries.example/timetable", typed)
	}
	if u.Scheme != "http" && u.Scheme != "https" {
		return refuse("a redirect leads to http:// or https://, not to %s://", u.Scheme)
	}
	if u.User != nil {
		return refuse("the target has a sign-in name in it; leave out what is before the @")
	}
	host := u.Hostname()
	if address, addrErr := netip.ParseAddr(host); addrErr == nil {
		host = address.String()
		if address.Is6() {
			host = "[" + host + "]"
		}
	} else {
		www := strings.HasPrefix(strings.ToLower(host), "www.")
		domain, _, domainErr := names.ParseDomain(host)
		if domainErr != nil {
			return refuse("the target's name cannot be: %s", domainErr)
		}
		host = domain.String()
		if www {
			host = "www." + host
		}
	}
	if port := u.Port(); port != "" && !(u.Scheme == "http" && port == "80") &&
		!(u.Scheme == "https" && port == "443") {
		host += ":" + port
	}
	target = u.Scheme + "://" + host
	if p := u.EscapedPath(); p != "" && p != "/" {
		target += escape(p)
	}
	if u.RawQuery != "" {
		target += "?" + escape(u.RawQuery)
	}
	if f := u.EscapedFragment(); f != "" {
		target += "#" + escape(f)
	}
	return target, corrections, nil
}

// safe are the characters of addresses (RFC 3986, section 2) that no
// configuration file reads as syntax.
const safe = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~:/?@!*+,=&()%"

func escape(text string) string {
	var b strings.Builder
	for i := range len(text) {
		if strings.IndexByte(safe, text[i]) >= 0 {
			b.WriteByte(text[i])
		} else {
			const hex = "0123456789ABCDEF"
			b.Write([]byte{'%', hex[text[i]>>4], hex[text[i]&15]})
		}
	}
	return b.String()
}

// TargetHost returns the name a target leads to, without "www." and port.
func TargetHost(target string) string {
	u, err := url.Parse(target)
	if err != nil {
		return ""
	}
	return strings.TrimPrefix(u.Hostname(), "www.")
}

// Circle reports whether following redirects from a name leads back to it. Leads gives the name
// that each name is redirected to; a name without an entry is not redirected.
func Circle(from string, leads map[string]string) bool {
	at := leads[from]
	for range len(leads) {
		if at == from {
			return true
		}
		if at = leads[at]; at == "" {
			return false
		}
	}
	return at == from
}

// CheckRoot refuses a document root that is not a plain path below the home (see [CheckPath]) or
// lies in a directory that is not the customer's to fill.
func CheckRoot(root string) error {
	if err := CheckPath(root); err != nil {
		return refusal.Input("root", "%q cannot be a document root: write a path below the home such as "+
			"sites/ferries.example/public", root)
	}
	if first, _, _ := strings.Cut(root, "/"); first != "sites" {
		return refusal.Input("root", "a document root lies below sites/, such as sites/%s", root)
	}
	if root == "sites" {
		return refusal.Input("root", "sites holds all sites; give a directory below it")
	}
	return nil
}
