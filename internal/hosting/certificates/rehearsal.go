package certificates

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"victualler/internal/hosting/language"
)

// The methods by which a name is proved (RFC 8555, section 8).
const (
	ByHTTP = "http-01"
	ByDNS  = "dns-01"
)

// Proof is how a name is proved, which is more than the method: a
// record can stand in several places.
type Proof string

// The ways.
const (
	OverHTTP Proof = "http"  // our web servers answer
	InZone   Proof = "zone"  // in the name's own zone, which is here
	ByAlias  Proof = "alias" // in our zone for challenges, to which the name's own zone leads
	ByHand   Proof = "hand"  // somebody enters the record where the zone is
)

// say makes the texts of verdicts.
var say = language.New

// Result is what a rehearsal comes to.
type Result string

// The results.
const (
	Pass    Result = "would pass"
	Fail    Result = "would fail"
	Unknown Result = "cannot know"
)

// Verdict is what a rehearsal says about one name.
type Verdict struct {
	Result Result
	// Code names the reason and stays the same; empty for a name that would pass.
	Code string
	// Reason is the reason in words, and Do what to do about it.
	Reason, Do language.Text
	// Proof is how a name that would pass is proved.
	Proof Proof
}

func fails(code string, says, do language.Text) Verdict {
	return Verdict{Result: Fail, Code: code, Reason: says, Do: do}
}
func unknown(code string, says, do language.Text) Verdict {
	return Verdict{Result: Unknown, Code: code, Reason: says, Do: do}
}

// Choose chooses between what was seen of a name for a proof over HTTP and for one by DNS.
// A name that does not lead here is proved by DNS only if somebody wants it to be: most of
// the time it is meant to be served elsewhere.
func Choose(overHTTP, byRecord Verdict, wanted bool) Verdict {
	away := overHTTP.Code == CodeElsewhere || overHTTP.Code == CodeNoAddress
	switch {
	case overHTTP.Result == Pass || away && !wanted:
		return overHTTP
	case byRecord.Result == Pass:
		return byRecord
	case byRecord.Code == CodeAlias && wanted:
		overHTTP.Do = say("%s; or, to have the name proved wherever it leads, %s", overHTTP.Do, byRecord.Do)
	}
	return overHTTP
}

// The codes of verdicts.
const (
	CodeDNSSEC      = "dnssec"      // validating resolvers refuse what the zone says
	CodeLookup      = "lookup"      // DNS did not answer
	CodeNoAddress   = "no-address"  // neither an A nor an AAAA record
	CodeElsewhere   = "elsewhere"   // an address leads to a server that does not answer for us
	CodeCAA         = "caa"         // CAA records forbid it
	CodeUnreachable = "unreachable" // our own server is not reached
	CodeRedirect    = "redirect"    // the challenge path leads somewhere else
	CodeAnswer      = "answer"      // our own server answers something else
	CodeAlias       = "alias"       // the zone is elsewhere, and its challenges are not handed to us
	CodeRecord      = "record"      // a name server does not show the record
)

// Hop is one request on the way of a fetch.
type Hop struct {
	URL string
	// Status is that of the answer; 0 where there was none, and Failed says why.
	Status int
	Failed string
	// Realm is that of a password that was asked for (RFC 7617).
	Realm string
}

// Fetch is how the probe file was fetched at one address.
type Fetch struct {
	Address netip.Addr
	Hops    []Hop
	// Right says that what came is what one of our servers answers with.
	Right bool
}

// Answer is what one authoritative server answers with.
type Answer struct {
	Server string
	Data   []string
	Failed string
}

// Observation is what was seen of one name.
type Observation struct {
	// Name may begin with "*.".
	Name   string
	Method string
	// Addresses are those that the resolver knows. Failed says that it does not answer, and Bogus
	// that it does when it is asked not to check signatures.
	Addresses []netip.Addr
	Failed    string
	Bogus     bool
	// Own are the public addresses of our servers.
	Own []netip.Addr
	// CAA are the records that count for the name, and CAAAt where they were found, climbing up;
	// CAALeft is for how long resolvers remember them; CAAFailed says that a question for them was
	// not answered.
	CAA       []CAA
	CAAAt     string
	CAALeft   time.Duration
	CAAFailed string
	Issuing   Issuing
	// Fetches are for http-01, one for each address.
	Fetches []Fetch
	// The rest is for dns-01: whether somebody enters the records by hand; whether the zone is
	// here, or else where the challenge's name should lead, and where it does.
	ByHand, ZoneHosted   bool
	ExpectedAlias, Alias string
	// Answers are what the authoritative servers of the zone say under the challenge's name.
	Answers []Answer
}

// Judge says what an authority would do.
func (l Observation) Judge() Verdict {
	if l.Bogus {
		return fails(CodeDNSSEC, say("the zone of %s is signed, and its signatures do not hold: whoever "+
			"checks them gets no answer", l.base()),
			say("have the parent's DS record fit the keys of the zone, or remove it; “zone check” shows both"))
	}
	if l.CAAFailed != "" {
		return fails(CodeCAA, say("the CAA records cannot be looked up, and no authority issues without: %s",
			l.CAAFailed), say("see with “zone check” why the name servers do not answer"))
	}
	if reason := l.forbidden(); !reason.IsZero() {
		return fails(CodeCAA, say("%s (at %s)", reason, l.CAAAt), l.allow())
	}
	if l.Method == ByDNS {
		return l.judgeRecords()
	}
	switch {
	case l.Failed != "":
		return unknown(CodeLookup, say("the resolver does not answer: %s", l.Failed),
			say("try again in a while; if it stays, see with “zone check” whether the name servers answer"))
	case len(l.Addresses) == 0:
		return fails(CodeNoAddress, say("%s has neither an A nor an AAAA record", l.Name), l.point())
	}
	for _, f := range l.Fetches {
		if !f.Right {
			v := l.judgeFetch(f)
			if l.mayFallBack(f) {
				v.Result = Unknown
				v.Reason = say("%s; some authorities take the IPv4 address then, and others do not", v.Reason)
			}
			return v
		}
	}
	if len(l.Fetches) == 0 {
		return unknown(CodeUnreachable, say("nobody has asked %s yet", l.Name), say("rehearse it"))
	}
	return Verdict{Result: Pass, Proof: OverHTTP}
}

// mayFallBack reports whether an IPv6 address does not answer at all, while IPv4 does as it should.
func (l Observation) mayFallBack(f Fetch) bool {
	return f.Address.Is6() && len(f.Hops) == 1 && f.Hops[0].Failed != "" &&
		slices.ContainsFunc(l.Fetches, func(o Fetch) bool {
			return o.Address.Is4() && o.Right
		})
}

func (l Observation) base() string { return strings.TrimPrefix(l.Name, "*.") }

func (l Observation) forbidden() language.Text {
	i := l.Issuing
	i.Wildcard, i.Method = strings.HasPrefix(l.Name, "*."), l.Method
	return i.Forbidden(l.CAA)
}

func (l Observation) allow() language.Text {
	if len(l.Issuing.Identities) == 0 {
		return say("choose another authority, or remove the CAA records")
	}
	tag := "issue"
	if strings.HasPrefix(l.Name, "*.") {
		tag = "issuewild"
	}
	remedy := say("add the record %s CAA 0 %s \"%s\", or remove the ones that are there", l.CAAAt, tag,
		l.Issuing.Identities[0])
	if l.CAALeft < time.Minute {
		return remedy
	}
	return say("%s; if that is done, wait until resolvers have forgotten the old ones, at most %d min", remedy,
		int(l.CAALeft.Minutes())+1)
}

// point says which records would lead the name here.
func (l Observation) point() language.Text {
	var records []string
	for _, a := range l.Own {
		records = append(records, kind(a)+" "+a.String())
	}
	if len(records) == 0 {
		return say("point the name to its server")
	}
	return say("point it here: %s", strings.Join(records, ", "))
}

func kind(a netip.Addr) string {
	if a.Is6() {
		return "AAAA"
	}
	return "A"
}

// Statuses of RFC 9110, section 15.
const (
	ok           = 200
	unauthorized = 401
)

var statuses = map[int]string{301: "Moved Permanently", 302: "Found", 303: "See Other", 307: "Temporary Redirect",
	308: "Permanent Redirect", 400: "Bad Request", 403: "Forbidden",
	404: "Not Found", 405: "Method Not Allowed", 410: "Gone", 421: "Misdirected Request", 429: "Too Many Requests",
	451: "Unavailable For Legal Reasons", 500: "Internal Server Error",
	502: "Bad Gateway", 503: "Service Unavailable", 504: "Gateway Timeout"}

func statusWords(status int) string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", status, statuses[status]))
}

// judgeFetch says why the probe did not come from one address.
func (l Observation) judgeFetch(f Fetch) Verdict {
	ours := slices.Contains(l.Own, f.Address)
	if !ours {
		says := say("the %s record of %s leads to %s, which is none of our servers and does not answer for us",
			kind(f.Address), l.Name, f.Address)
		do := l.point()
		if !slices.ContainsFunc(l.Own, func(a netip.Addr) bool { return a.Is6() == f.Address.Is6() }) {
			do = say("remove the %s record, as the server has no such address", kind(f.Address))
		} else if len(l.Addresses) > 1 && slices.ContainsFunc(l.Addresses, func(a netip.Addr) bool {
			return slices.Contains(l.Own, a)
		}) {
			do = say("remove the record %s %s, or change it; %s", kind(f.Address), f.Address, l.point())
		}
		return fails(CodeElsewhere, says, do)
	}
	if len(f.Hops) == 0 {
		return unknown(CodeUnreachable, say("%s was not asked", f.Address), say("try again"))
	}
	last := f.Hops[len(f.Hops)-1]
	if len(f.Hops) > 1 {
		from := f.Hops[len(f.Hops)-2].URL
		says := say("%s redirects to %s, which answers %s", from, last.URL, statusWords(last.Status))
		switch {
		case last.Failed != "":
			says = say("%s redirects to %s, which fails: %s", from, last.URL, last.Failed)
		case last.Status == ok:
			says = say("%s redirects to %s, which answers something else", from, last.URL)
		}
		return fails(CodeRedirect, says, say("leave the path /.well-known/acme-challenge/ out of the redirect"))
	}
	switch {
	case last.Failed != "":
		return fails(CodeUnreachable, say("%s, our own server, is not reached at port 80: %s", f.Address,
			last.Failed),
			say("see whether its web server runs and whether a firewall lets visitors through to port 80"))
	case last.Status == unauthorized:
		return fails(CodeAnswer, say("the path of the challenge asks for a password (“%s”)", last.Realm),
			say("leave the path /.well-known/acme-challenge/ out of what the password protects"))
	case last.Status != ok:
		return fails(CodeAnswer, say("the path of the challenge answers %s", statusWords(last.Status)),
			say("repair the server; if it stays, see whether a file of its web server answers for /.well-known/"))
	}
	return fails(CodeAnswer, say("the path of the challenge answers something else than the challenge"),
		say("see which file of the web server answers for /.well-known/acme-challenge/"))
}

// ChallengeName is where a name is proved in DNS (RFC 8555, section 8.4).
func ChallengeName(name string) string { return "_acme-challenge." + strings.TrimPrefix(name, "*.") }

func (l Observation) judgeRecords() Verdict {
	if l.ByHand {
		if len(l.Answers) == 0 {
			return unknown(CodeLookup, say("no name server of the zone was found"),
				say("see with “zone check” where the zone is delegated to"))
		}
		return Verdict{Result: Pass, Proof: ByHand}
	}
	byAlias := l.Alias != "" && l.Alias == l.ExpectedAlias
	if l.ZoneHosted && l.Alias != "" && !byAlias {
		return fails(CodeAlias, say("%s leads to %s, so no challenge can stand there", ChallengeName(l.Name),
			l.Alias), say("remove the record %s CNAME %s.", ChallengeName(l.Name), l.Alias))
	}
	if !l.ZoneHosted && !byAlias {
		at := ChallengeName(l.Name)
		says := say("the DNS of %s is hosted elsewhere, and %s does not lead to us", l.base(), at)
		if l.Alias != "" {
			says = say("%s leads to %s, which is not the name that was given for it", at, l.Alias)
		}
		if l.ExpectedAlias == "" {
			return fails(CodeAlias, says, say("the operator sets a zone for challenges first; or enter each "+
				"challenge by hand"))
		}
		return fails(CodeAlias, says, say("enter this one record where the zone is, once and for good: %s "+
			"CNAME %s.", at, l.ExpectedAlias))
	}
	for _, a := range l.Answers {
		if a.Failed != "" {
			return fails(CodeRecord, say("the name server %s does not answer: %s", a.Server, a.Failed),
				say("every name server to which the zone is delegated has to answer; “zone check” shows them"))
		}
	}
	if len(l.Answers) == 0 {
		return unknown(CodeLookup, say("no name server of the zone was found"),
			say("see with “zone check” where the zone is delegated to"))
	}
	if byAlias {
		return Verdict{Result: Pass, Proof: ByAlias}
	}
	return Verdict{Result: Pass, Proof: InZone}
}
