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
	"victualler/internal/hosting/language"
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
	traceVerdict(a, d, server, &out)
	return out, nil
}

// traceSite finds what answers for a name, if the actor may see it.
func (s *Service) traceSite(ctx context.Context, a usecase.Actor, domain names.Domain, host string,
	out *api.Trace) (db.Domain, *db.Server, error) {
	none := db.Domain{}
	row, err := s.Store.DomainByName(ctx, domain.String())
	if store.None(err) && a.Role != rights.Operator {
		out.Rule = a.Say("no site of yours has this name")
		return none, nil, nil
	}
	if store.None(err) {
		out.Rule = a.Say("no site has this name: a web server of ours would answer 421 and refuse TLS")
		return none, nil, nil
	}
	if err != nil {
		return none, nil, err
	}
	rows, d, server, err := s.LoadDomain(ctx, a, fmt.Sprint(row.AccountID), row.Name)
	if refusal.Is(err, refusal.NotFound) {
		out.Rule = a.Say("no site of yours has this name")
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
	out.Rule = traceRule(d, rows, accountRow, domain, host).In(a.Language)
	return d, &server, nil
}

func traceRule(d db.Domain, rows SiteRows, account db.AccountRow, domain names.Domain, host string) language.Text {
	form := language.New("the name is a domain of account %s", account.SignInName)
	if host != d.Name {
		form = language.New("it is %s with www. before it, a domain of account %s", domain.Unicode(),
			account.SignInName)
	}
	if d.Waiting {
		return language.New("%s; nothing shows yet that it is theirs, and it is not served", form)
	}
	if account.Suspended {
		return language.New("%s; the account is suspended: a notice is shown", form)
	}
	switch sites.ServedAs(d.ServedAs) {
	case sites.DNSOnly:
		return language.New("%s, served by no web server (dns-only)", form)
	case sites.Redirect:
		return language.New("%s, a redirect (%d) to %s", form, d.Code, d.Target)
	case sites.Mirror:
		form = language.New("%s, a mirror of %s", form, usecase.Unicode(rows.byID(*d.MirrorOf).Name))
	}
	shown, _ := rows.shown(d)
	switches, err := sites.SwitchesOf(rows.effective(shown))
	if err == nil {
		switch {
		case switches.Preferred == "www" && host == d.Name:
			return language.New("%s; the preferred form is www, visitors are sent there", form)
		case switches.Preferred == "bare" && host != d.Name:
			return language.New("%s; the preferred form is without www, visitors are sent there", form)
		}
	}
	return language.New("%s; its files are in %s/%s", form, usecase.HomeOf(rows.account), shown.Root)
}

// tracePublicDNS asks DNS.
func (s *Service) tracePublicDNS(ctx context.Context, a usecase.Actor, servers []db.ServersRow, out *api.Trace) {
	ctx, cancel := context.WithTimeout(ctx, traceTimeout)
	defer cancel()
	found, err := s.Resolver.Addresses(ctx, out.Name)
	switch {
	case err == nil && len(found) == 0:
		out.Failed = a.Say("DNS has no address for the name")
	case err != nil:
		out.Failed = a.Say("DNS could not be asked: %s", err)
	}
	for _, address := range found {
		seen := api.TraceAddress{Address: address.Unmap().String(),
			Right: slices.Contains(out.Ours, address.Unmap().String())}
		for _, server := range servers {
			if !slices.Contains(usecase.AddressesOf(server.Server), seen.Address) {
				continue
			}
			seen.Ours = true
			if a.Role == rights.Operator {
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

// traceVerdict tells the actor what it comes to.
func traceVerdict(a usecase.Actor, d db.Domain, server *db.Server, out *api.Trace) {
	right := slices.IndexFunc(out.PublicDNS, func(w api.TraceAddress) bool { return w.Right }) >= 0
	wrong := slices.IndexFunc(out.PublicDNS, func(w api.TraceAddress) bool { return !w.Right }) >= 0
	here := ""
	if server != nil {
		here = server.Label + " (" + strings.Join(out.Ours, ", ") + ")"
	}
	switch {
	case server == nil && len(out.PublicDNS) == 0:
		out.Verdict = a.Say("nobody serves the name: no site has it, and public DNS has no address for it")
	case server == nil:
		out.Verdict = a.Say("no site here has the name; public DNS leads to %s", addressWords(out.PublicDNS))
	case d.ServedAs == string(sites.DNSOnly):
		out.Verdict, out.Right = a.Say("no web server answers for it, as is wanted"), true
	case len(out.PublicDNS) == 0:
		out.Verdict = a.Say("the site is ready on %s, but visitors do not find it: %s", here, out.Failed)
	case right && !wrong:
		out.Verdict, out.Right = a.Say("visitors come to %s and get this site", here), true
	case right:
		out.Verdict = a.Say("some visitors come to %s, others are led to %s: remove the addresses that are not the "+
			"server's", here, addressWords(out.PublicDNS))
	default:
		out.Verdict = a.Say("visitors are led to %s, not to %s: change the address record, or wait until the old one "+
			"has "+
			"run out", addressWords(out.PublicDNS), here)
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
