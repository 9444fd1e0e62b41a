package certs

import (
	"context"
	"crypto/rand"
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
	"sync"
	"syscall"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/networks"
	"victualler/internal/hosting/refusal"
	"victualler/internal/resolve"
	"victualler/internal/service/dns"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// rehearsalTime is how long the rehearsal of a site's names may take as a whole, and fetchTime one
// request of it; mostAddresses is at how many addresses of a name it is tried, of each family.
const (
	rehearsalTime = 30 * time.Second
	fetchTime     = 5 * time.Second
	mostHops      = 10
	mostAddresses = 4
)

// rehearsal is what is looked at, and with what in mind.
type rehearsal struct {
	site  siteCertificate
	names []string
	// chosen says that somebody has chosen the names: they are proved
	// by DNS where they do not lead here.
	chosen bool
	// byHand says that somebody enters the records that prove the names.
	byHand bool
}

// rehearse looks at names as an authority would, and says of each what it would do. The servers
// that could answer for them are given something to answer with.
func (s *Service) rehearse(ctx context.Context, r rehearsal) (map[string]certificates.Verdict, error) {
	ctx, cancel := context.WithTimeout(ctx, rehearsalTime)
	defer cancel()
	home, err := s.Store.ServerByID(ctx, r.site.entitlement.Account.ServerID)
	if err != nil {
		return nil, err
	}
	servers, err := s.Store.WebServers(ctx)
	if err != nil {
		return nil, err
	}
	w := probe{rehearsal: r, own: dns.PublicAddresses(home),
		probe: agentlink.Challenges{Answers: map[string]string{"rehearsal-" + rand.Text(): rand.Text()}}}
	for _, server := range servers {
		w.ours = append(w.ours, dns.PublicAddresses(server)...)
	}
	if w.zones, err = dns.LoadZones(ctx, s.Store.Queries, r.site.entitlement); err != nil {
		return nil, err
	}
	named, err := s.Store.NameServers(ctx)
	if err != nil {
		return nil, err
	}
	for _, server := range named {
		w.nameServers = append(w.nameServers, dns.PublicAddresses(server)...)
	}
	if _, w.alias, err = challengeAlias(ctx, s.Store.Queries, r.site); err != nil {
		return nil, err
	}
	if !r.byHand && slices.ContainsFunc(r.names, func(n string) bool { return !strings.HasPrefix(n, "*.") }) {
		if err := s.challenge(ctx, home, servers, w.probe); err != nil {
			return nil, err
		}
		defer s.removeChallenge(context.WithoutCancel(ctx), servers, w.probe)
	}
	out := map[string]certificates.Verdict{}
	var mu sync.Mutex
	usecase.Concurrently(len(r.names), r.names, func(name string) {
		v := s.judge(ctx, w, name)
		mu.Lock()
		out[name] = v
		mu.Unlock()
	})
	return out, nil
}

// probe is a rehearsal on its way.
type probe struct {
	rehearsal
	// own are the addresses of the site's server, ours those of all web servers.
	own, ours []netip.Addr
	// nameServers are the addresses of our name servers.
	nameServers []netip.Addr
	zones       []dns.Zone
	// alias is where the challenge's name should lead if the zone is elsewhere.
	alias string
	probe agentlink.Challenges
}

// judge asks public DNS about one name, and says what an authority would do.
func (s *Service) judge(ctx context.Context, w probe, name string) certificates.Verdict {
	look := certificates.Observation{Name: name, Own: w.own, ByHand: w.byHand, ExpectedAlias: w.alias}
	if authority := w.site.authority; authority != nil {
		look.Issuing = certificates.Issuing{Identities: authority.Identities, AccountURL: authority.Url}
	}
	base := strings.TrimPrefix(name, "*.")
	s.checkCAA(ctx, &look, base)
	byRecord := func() certificates.Verdict {
		l := look
		l.Method = certificates.ByDNS
		s.checkChallengeName(ctx, &l, base, w)
		return l.Judge()
	}
	if w.byHand || base != name {
		return byRecord()
	}
	l := look
	l.Method = certificates.ByHTTP
	s.probeServer(ctx, &l, w)
	v := l.Judge()
	if v.Result == certificates.Pass {
		return v
	}
	return certificates.Choose(v, byRecord(), w.chosen)
}

// challenge has all web servers answer challenges; home, where the site is, must.
func (s *Service) challenge(ctx context.Context, home db.Server, servers []db.Server, c agentlink.Challenges) error {
	var group sync.WaitGroup
	errs := make([]error, len(servers))
	for n, server := range servers {
		group.Go(func() {
			limited, cancel := context.WithTimeout(ctx, 10*time.Second)
			defer cancel()
			errs[n] = s.Agents.Agent(server.ID, server.Address).Challenge(limited, c)
		})
	}
	group.Wait()
	for n, server := range servers {
		if errs[n] != nil && server.ID == home.ID {
			return &usecase.AgentError{Err: fmt.Errorf("%s: %w", server.Label, errs[n])}
		}
	}
	return nil
}

// removeChallenge has web servers forget challenges; one that is not
// reached forgets them by itself in time.
func (s *Service) removeChallenge(ctx context.Context, servers []db.Server, c agentlink.Challenges) {
	var gone []string
	for token := range c.Answers {
		gone = append(gone, token)
	}
	var group sync.WaitGroup
	for _, server := range servers {
		group.Go(func() {
			limited, cancel := context.WithTimeout(ctx, 5*time.Second)
			defer cancel()
			if err := s.Agents.Agent(server.ID, server.Address).Challenge(limited,
				agentlink.Challenges{Removed: gone}); err != nil {
				s.Log.Info("challenges not taken back", "server", server.Label, "reason", err)
			}
		})
	}
	group.Wait()
}

// probeServer fetches the probe at all addresses of a name.
func (s *Service) probeServer(ctx context.Context, l *certificates.Observation, w probe) {
	found, err := s.Resolver.Addresses(ctx, l.Name)
	if err != nil {
		l.Failed = err.Error()
		if errors.Is(err, resolve.ErrRefused) {
			l.Bogus = s.Resolver.Unsigned(ctx, l.Name)
		}
		return
	}
	l.Addresses = found
	for token, answer := range w.probe.Answers {
		tried := map[bool]int{}
		for _, address := range found {
			if tried[address.Is4()]++; tried[address.Is4()] > mostAddresses {
				continue
			}
			l.Fetches = append(l.Fetches, s.fetch(ctx, l.Name, address, w.ours, token, answer))
		}
	}
}

// checkCAA climbs the tree for the records that count (RFC 8659, section 3).
func (s *Service) checkCAA(ctx context.Context, l *certificates.Observation, name string) {
	for at := name; at != ""; {
		answer, err := s.Resolver.Ask(ctx, at, "CAA")
		if err != nil {
			if errors.Is(err, resolve.ErrRefused) && s.Resolver.Unsigned(ctx, at) {
				l.Bogus = true
				return
			}
			l.CAAFailed = err.Error()
			return
		}
		if len(answer.Data) > 0 {
			l.CAAAt, l.CAALeft = at, time.Duration(answer.TTL)*time.Second
			for _, data := range answer.Data {
				if one, err := certificates.ParseCAA(data); err == nil {
					l.CAA = append(l.CAA, one)
				}
			}
			return
		}
		_, at, _ = strings.Cut(at, ".")
	}
}

// checkChallengeName asks whether the record that proves a name can be shown.
func (s *Service) checkChallengeName(ctx context.Context, l *certificates.Observation, base string, w probe) {
	servers := s.authoritative(ctx, base)
	at := certificates.ChallengeName(base)
	for _, server := range servers { // and not the resolver, which may remember for a while that there was none
		if alias, err := resolve.AskAt(ctx, server.address, at, "CNAME"); err == nil && len(alias.Data) > 0 {
			l.Alias = strings.ToLower(strings.TrimSuffix(alias.Data[0], "."))
			break
		}
	}
	for _, z := range w.zones {
		if (base == z.Row.Name || strings.HasSuffix(base, "."+z.Row.Name)) && z.Row.Hosted == dns.HostedHere {
			// As public DNS has it, and not as we would like it: a zone
			// can be here and be delegated elsewhere still.
			l.ZoneHosted = slices.ContainsFunc(servers, func(n nameServer) bool {
				return slices.Contains(w.nameServers, n.address)
			})
			if l.ZoneHosted {
				// an alias for all names below gives way to the record
				// of a challenge; one of its own does not
				l.Alias = z.OwnAlias(at)
			}
		}
	}
	for _, server := range servers {
		a := certificates.Answer{Server: server.name}
		answer, err := resolve.AskAt(ctx, server.address, at, "TXT")
		if err != nil {
			a.Failed = err.Error()
		}
		a.Data = answer.Data
		l.Answers = append(l.Answers, a)
	}
}

// challengeAlias is the name in our zone for challenges that proves a site's names, and the account
// whose zone that is; empty where there is no such zone.
func challengeAlias(ctx context.Context, q *db.Queries, site siteCertificate) (account int64, name string, err error) {
	settings, err := q.Settings(ctx)
	if err != nil || settings.ChallengeZone == "" {
		return 0, "", err
	}
	in, err := q.ChallengeZone(ctx, settings.ChallengeZone)
	if store.None(err) { // it was closed
		return 0, "", nil
	}
	return in.AccountID, site.config.ChallengeLabel + "." + settings.ChallengeZone, err
}

type nameServer struct {
	name    string
	address netip.Addr
}

// authoritative finds the name servers of the zone in which a name
// lies, as resolvers do: by delegation.
func (s *Service) authoritative(ctx context.Context, name string) []nameServer {
	for at := name; strings.Contains(at, "."); {
		if d, err := s.Resolver.Delegation(ctx, at); err == nil && len(d.Servers) > 0 {
			var list []nameServer
			for _, server := range d.Servers {
				addresses, _ := s.Resolver.Addresses(ctx, server)
				if len(addresses) == 0 {
					addresses = d.Glue[server]
				}
				for _, a := range addresses {
					list = append(list, nameServer{server, a})
				}
			}
			return list
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return nil
}

// errInner is for addresses that no authority would reach, and that
// customers must not have the service call.
var errInner = errors.New("the address is not one of the public network")

// fetch fetches the probe at one address of a name, following redirects as an authority would.
func (s *Service) fetch(ctx context.Context, name string, address netip.Addr, ours []netip.Addr, token,
	answer string) certificates.Fetch {
	f := certificates.Fetch{Address: address}
	dial := func(ctx context.Context, network, at string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(at)
		if err != nil {
			return nil, err
		}
		to := []netip.Addr{address}
		if host != name {
			if to, err = s.Resolver.Addresses(ctx, host); err != nil {
				return nil, err
			}
			if len(to) == 0 {
				return nil, fmt.Errorf("%s has no address", host)
			}
		}
		var failed error
		for _, a := range to {
			if a = a.Unmap(); !networks.Public(a) && !slices.Contains(ours, a) {
				failed = errInner
				continue
			}
			conn, err := (&net.Dialer{Timeout: fetchTime}).DialContext(ctx, network, net.JoinHostPort(a.String(), port))
			if err == nil {
				return conn, nil
			}
			failed = err
		}
		return nil, failed
	}
	client := &http.Client{Timeout: 2 * fetchTime, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	},
		// as authorities do: who answers is what is asked
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: dial,
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	for at := "http://" + name + "/.well-known/acme-challenge/" + token; ; {
		hop := certificates.Hop{URL: strings.ReplaceAll(at, token, "…")}
		next, text := "", ""
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		var response *http.Response
		if err == nil {
			err = mayFollow(request.URL)
		}
		if err == nil {
			response, err = client.Do(request)
		}
		if err == nil {
			var body []byte
			body, err = io.ReadAll(io.LimitReader(response.Body, 1024))
			response.Body.Close()
			hop.Status, text = response.StatusCode, strings.TrimSpace(string(body))
			if hop.Status == http.StatusUnauthorized {
				hop.Realm = realm(response.Header.Get("WWW-Authenticate"))
			}
			if to, redirected := response.Location(); redirected == nil && hop.Status/100 == 3 {
				next = to.String()
			}
		}
		if err != nil {
			hop.Failed = fetchWords(err)
		}
		f.Hops = append(f.Hops, hop)
		if next == "" || len(f.Hops) > mostHops {
			f.Right = err == nil && hop.Status == http.StatusOK && text == answer
			return f
		}
		at = next
	}
}

// mayFollow refuses what authorities do not follow: other ports, and bare addresses.
func mayFollow(to *url.URL) error {
	if port := to.Port(); port != "" && port != "80" && port != "443" {
		return fmt.Errorf("authorities follow no redirect to port %s", port)
	}
	if _, err := netip.ParseAddr(to.Hostname()); err == nil {
		return errors.New("authorities follow no redirect to a bare address")
	}
	return nil
}

func realm(header string) string {
	_, rest, _ := strings.Cut(header, `realm="`)
	name, _, _ := strings.Cut(rest, `"`)
	return name
}

func fetchWords(err error) string {
	var timeout net.Error
	var failed *url.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the connection is refused"
	case errors.Is(err, errInner):
		return errInner.Error()
	case errors.As(err, &timeout) && timeout.Timeout():
		return "no answer in time"
	case errors.As(err, &failed):
		return failed.Err.Error()
	}
	return err.Error()
}

// Rehearse says of each name of a site what an authority would do, and asks none.
//
// Refusals: InvalidInput, NameTaken, NotFound, ServerUnreachable, TooManyTries, WrongState.
func (s *Service) Rehearse(ctx context.Context, a usecase.Actor, reference, name string,
	in api.RehearsalQuestion) (api.Rehearsal, error) {
	out := api.Rehearsal{Names: []api.RehearsedName{}}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return out, err
	}
	wanted, err := c.namesOr(in.Names)
	if err != nil {
		return out, err
	}
	if err := s.AllowProbe(ctx, a); err != nil {
		return out, err
	}
	verdicts, err := s.rehearse(ctx, rehearsal{site: c, names: wanted, chosen: len(in.Names) > 0 ||
		len(c.config.Names) > 0})
	var unreached *usecase.AgentError
	if errors.As(err, &unreached) {
		return out, refusal.New(refusal.ServerUnreachable, "the site's server cannot be given anything to answer "+
			"with: %s", unreached)
	}
	if err != nil {
		return out, err
	}
	out.Pass = true
	for _, n := range wanted {
		v := verdicts[n]
		out.Names = append(out.Names, api.RehearsedName{Name: n, Result: string(v.Result), Proof: string(v.Proof),
			Code: v.Code, Reason: v.Reason.In(a.Language), Fix: v.Do.In(a.Language)})
		out.Pass = out.Pass && v.Result == certificates.Pass
	}
	return out, nil
}
