package mail

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/smtp"
	"slices"
	"strings"
	"sync"
	"time"

	"blitiri.com.ar/go/spf"
	"github.com/miekg/dns"

	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/networks"
	"victualler/internal/hosting/refusal"
	dnsparts "victualler/internal/service/dns"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// rehearsalTime is how long it may take to look at everything.
const rehearsalTime = 20 * time.Second

// Rehearse looks at the mail of a domain as other servers do before they take a message.
//
// Refusals: InvalidInput, NotFound, TooManyTries, WrongState.
func (s *Service) Rehearse(ctx context.Context, a usecase.Actor, reference, typed string) (api.MailRehearsal, error) {
	none := api.MailRehearsal{}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return none, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return none, err
	}
	domains, err := s.Store.DomainsOfAccount(ctx, number)
	if err != nil {
		return none, err
	}
	found, domain, err := domainFor(domains, account, "@"+typed)
	if err != nil {
		return none, err
	}
	if account.MailServerID == nil {
		return none, refusal.New(refusal.WrongState, "%s has no mail yet: add a mailbox first", domain.Unicode())
	}
	server, err := s.Store.ServerByID(ctx, *account.MailServerID)
	if err != nil {
		return none, err
	}
	keys, err := s.Store.SigningKeysOfAccount(ctx, number)
	if err != nil {
		return none, err
	}
	if err := s.AllowProbe(ctx, a); err != nil {
		return none, err
	}
	o := mail.Outside{Domain: domain.String(), Server: server.HostName, Addresses: dnsparts.PublicAddresses(server)}
	for _, k := range keys {
		if k.DomainID == found.ID && stateOf(k).Signs() {
			o.Selector, o.Key = k.Selector, k.Record
		}
	}
	ctx, cancel := context.WithTimeout(ctx, rehearsalTime)
	defer cancel()
	roots, err := s.trustedRoots(ctx)
	if err != nil {
		return none, err
	}
	s.look(ctx, &o, roots)
	out := api.MailRehearsal{Domain: o.Domain, Server: o.Server, Right: true, Findings: []api.MailFinding{}}
	for _, f := range o.Findings() {
		out.Right = out.Right && f.Right
		out.Findings = append(out.Findings, api.MailFinding{Check: f.Check, Right: f.Right, Says: f.Says.In(a.Language),
			Do: f.Do.In(a.Language)})
	}
	return out, nil
}

// look asks everything at the same time.
func (s *Service) look(ctx context.Context, o *mail.Outside, roots *x509.CertPool) {
	var group sync.WaitGroup
	var mu sync.Mutex
	o.SPF, o.Names = map[netip.Addr]string{}, map[netip.Addr]mail.Asked{}
	group.Go(func() { o.MX = s.asked(ctx, o.Domain, "MX") })
	group.Go(func() { o.DMARC = s.asked(ctx, "_dmarc."+o.Domain, "TXT") })
	if o.Selector != "" {
		group.Go(func() { o.Published = s.asked(ctx, o.Selector+"._domainkey."+o.Domain, "TXT") })
	}
	group.Go(func() { o.Leads, _ = s.Resolver.Addresses(ctx, o.Server) }) // none, if that is not known
	group.Go(func() { o.TLS = shownOnPort25(ctx, o.Addresses, o.Server, roots) })
	group.Go(func() {
		if o.Announced = s.asked(ctx, "_mta-sts."+o.Domain, "TXT"); len(o.Announced.Data) > 0 {
			o.Policy = s.policyOf(ctx, o.Domain, roots)
		}
	})
	for _, a := range o.Addresses {
		group.Go(func() {
			result, _ := spf.CheckHostWithSender(a.AsSlice(), o.Server, "postmaster@"+o.Domain, spf.WithContext(ctx),
				spf.WithResolver(s.Resolver.Standard()))
			back, err := dns.ReverseAddr(a.String())
			named := mail.Asked{}
			if err == nil {
				named = s.asked(ctx, strings.TrimSuffix(back, "."), "PTR")
			}
			mu.Lock()
			o.SPF[a], o.Names[a] = string(result), named
			mu.Unlock()
		})
	}
	group.Wait()
}

// asked asks public DNS; names are without a dot at their ends, texts without quotation marks.
func (s *Service) asked(ctx context.Context, name, kind string) mail.Asked {
	answer, err := s.Resolver.Ask(ctx, name, kind)
	if err != nil {
		return mail.Asked{Failed: err.Error()}
	}
	out := mail.Asked{}
	for _, data := range answer.Data {
		if kind == "TXT" {
			out.Data = append(out.Data, strings.ReplaceAll(strings.Trim(data, `"`), `" "`, ""))
			continue
		}
		if kind == "MX" {
			_, data, _ = strings.Cut(data, " ")
		}
		out.Data = append(out.Data, strings.ToLower(strings.TrimSuffix(data, ".")))
	}
	return out
}

// trustedRoots are the machine's, and those of authorities that we have been told to trust.
func (s *Service) trustedRoots(ctx context.Context) (*x509.CertPool, error) {
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	authorities, err := s.Store.Authorities(ctx)
	for _, one := range authorities {
		roots.AppendCertsFromPEM([]byte(one.Root))
	}
	return roots, err
}

// shownOnPort25 says what is wrong with the certificate that others are shown; empty for nothing.
func shownOnPort25(ctx context.Context, addresses []netip.Addr, host string, roots *x509.CertPool) string {
	if len(addresses) == 0 {
		return "the server has no public address"
	}
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(addresses[0].String(),
		"25"))
	if err != nil {
		return err.Error()
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return err.Error()
	}
	c, err := smtp.NewClient(conn, host)
	if err == nil {
		err = c.StartTLS(&tls.Config{ServerName: host, RootCAs: roots})
	}
	var unknown *tls.CertificateVerificationError
	switch {
	case errors.As(err, &unknown):
		return unknown.Err.Error()
	case err != nil:
		return err.Error()
	}
	_ = c.Quit() // what was to be seen has been seen
	return ""
}

// policyOf fetches the policy for TLS of a domain (RFC 8461, section 3.3), from public addresses
// and servers of ours alone.
func (s *Service) policyOf(ctx context.Context, domain string, roots *x509.CertPool) mail.Asked {
	host := mail.PolicyLabel + "." + domain
	at, err := s.Resolver.Addresses(ctx, host)
	if err != nil {
		return mail.Asked{Failed: err.Error()}
	}
	servers, err := s.Store.Servers(ctx)
	if err != nil {
		return mail.Asked{Failed: err.Error()}
	}
	at = slices.DeleteFunc(at, func(a netip.Addr) bool {
		return !networks.Public(a) && !slices.ContainsFunc(servers, func(row db.ServersRow) bool {
			return slices.Contains(dnsparts.PublicAddresses(row.Server), a)
		})
	})
	if len(at) == 0 {
		return mail.Asked{Failed: host + " leads to no address"}
	}
	client := &http.Client{Timeout: 10 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}, DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(at[0].String(), "443"))
		}}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+host+"/.well-known/mta-sts.txt", nil)
	if err != nil {
		return mail.Asked{Failed: err.Error()}
	}
	answer, err := client.Do(request)
	if err != nil {
		return mail.Asked{Failed: err.Error()}
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil || answer.StatusCode != http.StatusOK {
		return mail.Asked{Failed: answer.Status}
	}
	out := mail.Asked{}
	for line := range strings.Lines(string(text)) {
		out.Data = append(out.Data, strings.TrimSpace(line))
	}
	return out
}
