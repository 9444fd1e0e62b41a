package domains

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// traceTimeout is how long each question of a trace may take.
const traceTimeout = 4 * time.Second

// Trace tells which server and site answer for a name, by which rule,
// and what public DNS says against it.
//
// Refusals: InvalidInput, NotFound, TooManyTries.
func (s *Service) Trace(ctx context.Context, a usecase.Actor, typed string) (api.Trace, error) {
	domain, _, err := names.ParseDomain(typed)
	if err != nil {
		return api.Trace{}, err
	}
	host := domain.String()
	if strings.HasPrefix(strings.ToLower(strings.TrimSpace(typed)), "www.") {
		host = "www." + host
	}
	out := api.Trace{Name: host, Unicode: strings.TrimSuffix(host, domain.String()) + domain.Unicode(),
		Ours: []string{}, PublicDNS: []api.TraceAddress{}, Asked: []api.TraceAnswer{}}
	if err := s.AllowProbe(ctx, a); err != nil {
		return out, err
	}
	servers, err := s.Store.Servers(ctx)
	if err != nil {
		return out, err
	}
	d, server, err := s.traceSite(ctx, a, domain, host, &out)
	if err != nil {
		return out, err
	}
	if server != nil {
		out.Ours = usecase.AddressesOf(*server)
	}
	s.tracePublicDNS(ctx, a, servers, &out)
	if server != nil && d.ServedAs != string(sites.DNSOnly) && len(out.Ours) > 0 {
		for _, scheme := range []string{"http", "https"} {
			out.Asked = append(out.Asked, requestSite(ctx, scheme, host, out.Ours[0]))
		}
	}
	traceVerdict(d, server, &out)
	return out, nil
}

// traceSite finds what answers for a name, if the actor may see it.
func (s *Service) traceSite(ctx context.Context, a usecase.Actor, domain names.Domain, host string,
	out *api.Trace) (db.Domain, *db.Server, error) {
	none := db.Domain{}
	row, err := s.Store.DomainByName(ctx, domain.String())
	if store.None(err) && a.Role != rights.Operator {
		out.Rule = "no site of yours has this name"
		return none, nil, nil
	}
	if store.None(err) {
		out.Rule = "no site has this name: a web server of ours would answer 421 and refuse TLS"
		return none, nil, nil
	}
	if err != nil {
		return none, nil, err
	}
	rows, d, server, err := s.LoadDomain(ctx, a, fmt.Sprint(row.AccountID), row.Name)
	if refusal.Is(err, refusal.NotFound) {
		out.Rule = "no site of yours has this name"
		return none, nil, nil
	}
	if err != nil {
		return none, nil, err
	}
	account := rows.account
	view := DomainView(d, rows)
	out.Site, out.Account, out.Server = &view, account.SignInName, server.Label
	accountRow, err := s.Store.AccountRow(ctx, account.ID)
	if err != nil {
		return none, nil, err
	}
	out.Rule = traceRule(d, rows, accountRow, domain, host)
	return d, &server, nil
}

func traceRule(d db.Domain, rows SiteRows, account db.AccountRow, domain names.Domain, host string) string {
	form := "the name is a domain of account " + account.SignInName
	if host != d.Name {
		form = fmt.Sprintf("it is %s with www. before it, a domain of account %s", domain.Unicode(), account.SignInName)
	}
	if d.Waiting {
		return form + "; nothing shows yet that it is theirs, and it is not served"
	}
	if account.Suspended {
		return form + "; the account is suspended: a notice is shown"
	}
	switch sites.ServedAs(d.ServedAs) {
	case sites.DNSOnly:
		return form + ", served by no web server (dns-only)"
	case sites.Redirect:
		return fmt.Sprintf("%s, a redirect (%d) to %s", form, d.Code, d.Target)
	case sites.Mirror:
		form += ", a mirror of " + usecase.Unicode(rows.byID(*d.MirrorOf).Name)
	}
	shown, _ := rows.shown(d)
	switches, err := sites.SwitchesOf(rows.effective(shown))
	if err == nil {
		switch {
		case switches.Preferred == "www" && host == d.Name:
			return form + "; the preferred form is www, visitors are sent there"
		case switches.Preferred == "bare" && host != d.Name:
			return form + "; the preferred form is without www, visitors are sent there"
		}
	}
	return fmt.Sprintf("%s; its files are in %s/%s", form, usecase.HomeOf(rows.account), shown.Root)
}

// tracePublicDNS asks DNS.
func (s *Service) tracePublicDNS(ctx context.Context, a usecase.Actor, servers []db.ServersRow, out *api.Trace) {
	ctx, cancel := context.WithTimeout(ctx, traceTimeout)
	defer cancel()
	found, err := s.Resolver.Addresses(ctx, out.Name)
	switch {
	case err == nil && len(found) == 0:
		out.Failed = "DNS has no address for the name"
	case err != nil:
		out.Failed = "DNS could not be asked: " + err.Error()
	}
	for _, address := range found {
		seen := api.TraceAddress{Address: address.Unmap().String(),
			Right: slices.Contains(out.Ours, address.Unmap().String())}
		for _, server := range servers {
			if a.Role == rights.Operator && slices.Contains(usecase.AddressesOf(server.Server), seen.Address) {
				seen.Server = server.Server.Label
			}
		}
		out.PublicDNS = append(out.PublicDNS, seen)
	}
	slices.SortFunc(out.PublicDNS, func(x, y api.TraceAddress) int {
		return netip.MustParseAddr(x.Address).Compare(netip.MustParseAddr(y.Address))
	})
}

// requestSite asks a server for the front page of a name, whatever the
// DNS says, and follows nothing.
func requestSite(ctx context.Context, scheme, host, address string) api.TraceAnswer {
	ctx, cancel := context.WithTimeout(ctx, traceTimeout)
	defer cancel()
	answer := api.TraceAnswer{URL: scheme + "://" + host + "/"}
	transport := &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(to)
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(address, port))
		},
		// What is asked is which site answers, not whether its
		// certificate is one that browsers take.
		TLSClientConfig: &tls.Config{ServerName: host, InsecureSkipVerify: true}}
	client := http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, answer.URL, nil)
	if err != nil {
		answer.Failed = err.Error()
		return answer
	}
	response, err := client.Do(request)
	if err != nil {
		answer.Failed = "no answer: " + err.Error()
		return answer
	}
	response.Body.Close()
	answer.Status, answer.Location = response.StatusCode, response.Header.Get("Location")
	return answer
}

// traceVerdict says what it comes to.
func traceVerdict(d db.Domain, server *db.Server, out *api.Trace) {
	right := slices.IndexFunc(out.PublicDNS, func(w api.TraceAddress) bool { return w.Right }) >= 0
	wrong := slices.IndexFunc(out.PublicDNS, func(w api.TraceAddress) bool { return !w.Right }) >= 0
	here := ""
	if server != nil {
		here = server.Label + " (" + strings.Join(out.Ours, ", ") + ")"
	}
	switch {
	case server == nil && len(out.PublicDNS) == 0:
		out.Verdict = "nobody serves the name: no site has it, and public DNS has no address for it"
	case server == nil:
		out.Verdict = "no site here has the name; public DNS leads to " + addressWords(out.PublicDNS)
	case d.ServedAs == string(sites.DNSOnly):
		out.Verdict, out.Right = "no web server answers for it, as is wanted", true
	case len(out.PublicDNS) == 0:
		out.Verdict = "the site is ready on " + here + ", but visitors do not find it: " + out.Failed
	case right && !wrong:
		out.Verdict, out.Right = "visitors come to "+here+" and get this site", true
	case right:
		out.Verdict = "some visitors come to " + here + ", others are led to " + addressWords(out.PublicDNS) +
			": remove the addresses that are not the server's"
	default:
		out.Verdict = "visitors are led to " + addressWords(out.PublicDNS) + ", not to " + here +
			": change the address record, or wait until the old one has run out"
	}
}

func addressWords(list []api.TraceAddress) string {
	var words []string
	for _, w := range list {
		if w.Right {
			continue
		}
		if w.Server != "" {
			words = append(words, w.Address+" ("+w.Server+")")
		} else {
			words = append(words, w.Address)
		}
	}
	return strings.Join(words, ", ")
}
