package authority

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"victualler/internal/resolve"
)

// checkChallenge asks public DNS whether a challenge is met; nothing if it is.
func (a *Authority) checkChallenge(ctx context.Context, proof *authorization, one *challenge, owner *account) *problem {
	name := proof.identifier.Value
	asked := name
	if proof.wildcard {
		asked = "*." + name
	}
	if p := a.mayIssue(ctx, asked, one.kind, a.base+"/account/"+owner.number); p != nil {
		return p
	}
	want := keyAuthorization(one, owner)
	if one.kind == "dns-01" {
		return a.lookAtRecord(ctx, name, digest(want))
	}
	from := a.options.From
	if len(from) == 0 {
		from = [][]netip.Addr{nil}
	}
	for _, own := range from {
		if p := a.fetch(ctx, own, name, one.token, want); p != nil {
			if len(from) > 1 {
				p.Detail = fmt.Sprintf("asked from %v: %s", own, p.Detail)
			}
			return p
		}
	}
	return nil
}

// lookAtRecord is of RFC 8555, section 8.4.
func (a *Authority) lookAtRecord(ctx context.Context, name, want string) *problem {
	at := "_acme-challenge." + name
	answer, err := a.options.Resolver.Ask(ctx, at, "TXT")
	if err != nil {
		return wrong("dns", http.StatusBadRequest, "%s cannot be looked up: %v", at, err)
	}
	if len(answer.Data) == 0 {
		return wrong("dns", http.StatusBadRequest, "there is no TXT record at %s", at)
	}
	if !slices.Contains(answer.Data, `"`+want+`"`) {
		return denied("none of the %d TXT records at %s is the one that was expected", len(answer.Data), at)
	}
	return nil
}

// A redirect is followed so often, and an answer read so far.
const (
	mostHops  = 10
	mostRead  = 4096
	fetchTime = 10 * time.Second
)

// fetch is of RFC 8555, section 8.3: over HTTP at port 80, following
// redirects, whose certificates need not be trusted.
func (a *Authority) fetch(ctx context.Context, from []netip.Addr, name, token, want string) *problem {
	first := "http://" + name + "/.well-known/acme-challenge/" + token
	var lookup *problem
	dialer := &net.Dialer{Timeout: fetchTime / 3}
	transport := &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	transport.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		found, err := a.options.Resolver.Addresses(ctx, host)
		if err != nil {
			lookup = wrong("dns", http.StatusBadRequest, "%s cannot be looked up: %v", host, err)
			return nil, err
		}
		if len(found) == 0 {
			lookup = wrong("dns", http.StatusBadRequest, "%s has neither an A nor an AAAA record", host)
			return nil, errors.New(lookup.Detail)
		}
		// IPv6 first; only where nothing answers there, IPv4 is asked.
		slices.SortStableFunc(found, func(x, y netip.Addr) int {
			switch {
			case x.Is6() && !y.Is6():
				return -1
			case y.Is6() && !x.Is6():
				return 1
			}
			return 0
		})
		var failed error
		for _, to := range found {
			d := *dialer
			if at := slices.IndexFunc(from, func(own netip.Addr) bool { return own.Is6() == to.Is6() }); at >= 0 {
				d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from[at], 0))
			}
			conn, err := d.DialContext(ctx, network, net.JoinHostPort(to.String(), port))
			if err == nil {
				return conn, nil
			}
			failed = errors.Join(failed, err)
		}
		return nil, failed
	}
	var hops []string
	client := &http.Client{Transport: transport, Timeout: fetchTime,
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			hops = append(hops, r.URL.String())
			if len(via) > mostHops {
				return fmt.Errorf("more than %d redirects", mostHops)
			}
			if port := r.URL.Port(); port != "" && port != "80" && port != "443" {
				return fmt.Errorf("a redirect to port %s is not followed", port)
			}
			if _, err := netip.ParseAddr(r.URL.Hostname()); err == nil {
				return errors.New("a redirect to a bare address is not followed")
			}
			return nil
		}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, first, nil)
	if err != nil {
		return malformed("%v", err)
	}
	request.Header.Set("User-Agent", "stand-in-authority")
	response, err := client.Do(request)
	if err != nil {
		if lookup != nil {
			return lookup
		}
		return wrong("connection", http.StatusBadRequest, "fetching %s%s: %s", first, through(hops), cause(err))
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, mostRead))
	if err != nil {
		return wrong("connection", http.StatusBadRequest, "reading %s%s: %v", first, through(hops), err)
	}
	if response.StatusCode != http.StatusOK {
		return denied("fetching %s%s: the answer is %s", first, through(hops), response.Status)
	}
	if got := strings.TrimRight(string(text), " \t\r\n"); got != want {
		return denied("fetching %s%s: the answer is not the key authorization but %.40q", first, through(hops), got)
	}
	return nil
}

func through(hops []string) string {
	if len(hops) == 0 {
		return ""
	}
	return ", redirected to " + strings.Join(hops, " and to ")
}

func cause(err error) string {
	var timeout net.Error
	var failed *url.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "no answer in time"
	case errors.As(err, &failed):
		return failed.Err.Error()
	}
	return err.Error()
}

// mayIssue climbs the tree of a name for the CAA records that count
// (RFC 8659, section 3) and asks whether they let this authority issue;
// method is empty when it is issued, by whatever proved the name.
func (a *Authority) mayIssue(ctx context.Context, name, method, accountURL string) *problem {
	base, wildcard := strings.CutPrefix(name, "*.")
	for at := base; at != ""; {
		answer, err := a.options.Resolver.Ask(ctx, at, "CAA")
		if errors.Is(err, resolve.ErrRefused) || err != nil {
			return wrong("caa", http.StatusForbidden, "the CAA records of %s cannot be looked up: %v", at, err)
		}
		if len(answer.Data) > 0 {
			if allows(answer.Data, wildcard, method, accountURL) {
				return nil
			}
			return wrong("caa", http.StatusForbidden, "the CAA records of %s forbid it: %s", at,
				strings.Join(answer.Data, "; "))
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return nil
}

// allows is of RFC 8659, section 4, with the parameters of RFC 8657.
func allows(records []string, wildcard bool, method, accountURL string) bool {
	var issue, issueWild []string
	for _, data := range records {
		rr, err := dns.NewRR(". 0 IN CAA " + data)
		caa, is := rr.(*dns.CAA)
		if err != nil || !is {
			return false
		}
		switch strings.ToLower(caa.Tag) {
		case "issue":
			issue = append(issue, caa.Value)
		case "issuewild":
			issueWild = append(issueWild, caa.Value)
		case "iodef":
		default:
			if caa.Flag&128 != 0 { // critical, and not known here
				return false
			}
		}
	}
	counts := issue
	if wildcard && len(issueWild) > 0 {
		counts = issueWild
	}
	if len(counts) == 0 {
		return true
	}
	return slices.ContainsFunc(counts, func(value string) bool {
		parts := strings.Split(value, ";")
		if strings.TrimSpace(parts[0]) != Identity {
			return false
		}
		for _, p := range parts[1:] {
			key, value, _ := strings.Cut(strings.TrimSpace(p), "=")
			switch strings.ToLower(strings.TrimSpace(key)) {
			case "accounturi":
				if strings.TrimSpace(value) != accountURL {
					return false
				}
			case "validationmethods":
				if method != "" && !slices.Contains(strings.Split(strings.TrimSpace(value), ","), method) {
					return false
				}
			}
		}
		return true
	})
}
