// Package publicdns stands in for the public DNS in demo and tests: a registry,
// which knows to which name servers each domain is delegated; a resolver, which
// follows these delegations to real name servers and remembers answers for as long as
// they say; and "somebody else's" name servers for domains whose DNS is hosted
// elsewhere. All three answer at one address, on port 53, and are set over HTTP.
package publicdns

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Delegation is what the registry knows of a domain.
type Delegation struct {
	NameServers []string `json:"name_servers"`
	// Glue are addresses of name servers that lie within the domain itself.
	Glue map[string][]netip.Addr `json:"glue,omitempty"`
	// DS are DS records in presentation form.
	DS []string `json:"ds,omitempty"`
}

// Elsewhere is the name of the name server that answers for zones of [DNS.Serve].
const Elsewhere = "ns1.elsewhere.test"

// registry is the name server of the registry itself.
const registry = "a.registry.test"

// DNS is a running stand-in. Make one with [Listen].
type DNS struct {
	// Address is where it answers, and HTTP where it is set.
	Address netip.Addr
	HTTP    string

	servers []*dns.Server
	web     *http.Server

	mu      sync.Mutex
	domains map[string]Delegation
	zones   map[string][]dns.RR
	memory  map[dns.Question]remembered
	down    bool
}

type remembered struct {
	records []dns.RR
	code    int
	until   time.Time
}

// Listen answers at an address, and is set at another (host and port), until [DNS.Close].
func Listen(address netip.Addr, web string) (*DNS, error) {
	w := &DNS{Address: address, domains: map[string]Delegation{}, zones: map[string][]dns.RR{},
		memory: map[dns.Question]remembered{}}
	at := netip.AddrPortFrom(address, 53).String()
	packets, err := net.ListenPacket("udp", at)
	if err != nil {
		return nil, err
	}
	streams, err := net.Listen("tcp", at)
	if err != nil {
		packets.Close()
		return nil, err
	}
	w.servers = []*dns.Server{{PacketConn: packets, Handler: dns.HandlerFunc(w.handle)},
		{Listener: streams, Handler: dns.HandlerFunc(w.handle)}}
	for _, s := range w.servers {
		go s.ActivateAndServe()
	}
	pages, err := net.Listen("tcp", web)
	if err != nil {
		w.Close()
		return nil, err
	}
	w.HTTP = pages.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /domains", func(out http.ResponseWriter, _ *http.Request) {
		w.mu.Lock()
		defer w.mu.Unlock()
		out.Header().Set("Content-Type", "application/json")
		json.NewEncoder(out).Encode(w.domains)
	})
	mux.HandleFunc("PUT /domains/{name}", func(out http.ResponseWriter, r *http.Request) {
		var d Delegation
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&d); err != nil {
			http.Error(out, err.Error(), http.StatusBadRequest)
			return
		}
		w.Delegate(r.PathValue("name"), d)
	})
	mux.HandleFunc("DELETE /domains/{name}", func(_ http.ResponseWriter, r *http.Request) {
		w.Forget(r.PathValue("name"))
	})
	mux.HandleFunc("PUT /zones/{name}", func(out http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		if err == nil {
			err = w.Serve(r.PathValue("name"), string(text))
		}
		if err != nil {
			http.Error(out, err.Error(), http.StatusBadRequest)
		}
	})
	w.web = &http.Server{Handler: mux}
	go w.web.Serve(pages)
	return w, nil
}

// Close ends it.
func (w *DNS) Close() {
	for _, s := range w.servers {
		s.Shutdown()
	}
	if w.web != nil {
		w.web.Close()
	}
}

// Delegate registers a domain, or changes where it is delegated to.
func (w *DNS) Delegate(name string, d Delegation) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.domains[dns.CanonicalName(name)] = d
	if !slices.Contains(d.NameServers, Elsewhere) {
		delete(w.zones, dns.CanonicalName(name))
	}
	w.memory = map[dns.Question]remembered{} // what was remembered of it is of no use to a test
}

// Forget ends a registration.
func (w *DNS) Forget(name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.domains, dns.CanonicalName(name))
	delete(w.zones, dns.CanonicalName(name))
	w.memory = map[dns.Question]remembered{}
}

// Serve has the name server of somebody else answer for a zone, and registers the domain there. The
// text is a zone file without SOA and NS.
func (w *DNS) Serve(name, text string) error {
	if err := w.Change(name, text); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.memory = map[dns.Question]remembered{}
	return nil
}

// Change is [DNS.Serve], but the resolver goes on remembering what it was told before.
func (w *DNS) Change(name, text string) error {
	origin := dns.CanonicalName(name)
	parser := dns.NewZoneParser(strings.NewReader(text), origin, "")
	parser.SetDefaultTTL(300)
	records := []dns.RR{
		must(fmt.Sprintf("%s 300 IN SOA %s. hostmaster.elsewhere.test. %d 3600 600 1209600 300", origin, Elsewhere,
			time.Now().Unix())),
		must(fmt.Sprintf("%s 300 IN NS %s.", origin, Elsewhere)),
	}
	for rr, more := parser.Next(); more; rr, more = parser.Next() {
		records = append(records, rr)
	}
	if err := parser.Err(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.zones[origin] = records
	w.domains[origin] = Delegation{NameServers: []string{Elsewhere}}
	return nil
}

// Fail has every question answered with SERVFAIL from now on, or no longer.
func (w *DNS) Fail(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.down = on
}

func must(text string) dns.RR {
	rr, err := dns.NewRR(text)
	if err != nil {
		panic(err)
	}
	return rr
}

func (w *DNS) handle(out dns.ResponseWriter, question *dns.Msg) {
	answer := new(dns.Msg).SetReply(question)
	w.mu.Lock()
	down := w.down
	w.mu.Unlock()
	switch {
	case len(question.Question) != 1 || down:
		answer.Rcode = dns.RcodeServerFailure
	case question.Question[0].Qtype == dns.TypeAXFR:
		w.transfer(out, question)
		return
	case question.RecursionDesired && !question.CheckingDisabled && w.bogus(question.Question[0].Name):
		answer.Rcode = dns.RcodeServerFailure
	case question.RecursionDesired:
		answer.RecursionAvailable = true
		answer.Answer, answer.Rcode = w.resolve(question.Question[0], 0)
	default:
		w.authority(question.Question[0], answer)
	}
	if size := 512; out.LocalAddr().Network() == "udp" {
		if o := question.IsEdns0(); o != nil {
			size = int(o.UDPSize())
			answer.SetEdns0(1232, false)
		}
		answer.Truncate(size)
	}
	out.WriteMsg(answer)
}

// transfer hands over a zone of somebody else's.
func (w *DNS) transfer(out dns.ResponseWriter, question *dns.Msg) {
	w.mu.Lock()
	records := slices.Clone(w.zones[dns.CanonicalName(question.Question[0].Name)])
	w.mu.Unlock()
	if len(records) == 0 || out.LocalAddr().Network() == "udp" {
		out.WriteMsg(new(dns.Msg).SetRcode(question, dns.RcodeRefused))
		return
	}
	answer := new(dns.Msg).SetReply(question)
	answer.Authoritative = true
	answer.Answer = append(records, records[0])
	out.WriteMsg(answer)
}

// domainOf finds the registered domain in which a name lies.
func (w *DNS) domainOf(name string) (string, Delegation, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for at := dns.CanonicalName(name); at != "."; {
		if d, known := w.domains[at]; known {
			return at, d, true
		}
		next, end := dns.NextLabel(at, 0)
		if end {
			break
		}
		at = at[next:]
	}
	return "", Delegation{}, false
}

// bogus reports whether a name lies in a domain for which the registry has DS records, of which
// none fits a key of the zone (RFC 4035, section 5.2). Signatures are not looked at beyond that.
func (w *DNS) bogus(name string) bool {
	domain, d, known := w.domainOf(name)
	if !known || len(d.DS) == 0 {
		return false
	}
	keys, _ := w.resolve(dns.Question{Name: domain, Qtype: dns.TypeDNSKEY, Qclass: dns.ClassINET}, 0)
	for _, text := range d.DS {
		ds, is := must(domain + " 300 IN DS " + text).(*dns.DS)
		for _, rr := range keys {
			if key, isKey := rr.(*dns.DNSKEY); is && isKey {
				if fits := key.ToDS(ds.DigestType); fits != nil && fits.KeyTag == ds.KeyTag &&
					strings.EqualFold(fits.Digest, ds.Digest) {
					return false
				}
			}
		}
	}
	return true
}

// authority answers as the registry and as somebody else's name server would.
func (w *DNS) authority(q dns.Question, answer *dns.Msg) {
	if records, own := w.ownRecords(q); own {
		answer.Authoritative, answer.Answer = true, records
		return
	}
	domain, d, known := w.domainOf(q.Name)
	if !known {
		answer.Authoritative, answer.Rcode = true, dns.RcodeNameError
		return
	}
	if q.Qtype == dns.TypeDS && dns.CanonicalName(q.Name) == domain {
		answer.Authoritative = true
		for _, ds := range d.DS {
			answer.Answer = append(answer.Answer, must(domain+" 300 IN DS "+ds))
		}
		return
	}
	w.mu.Lock()
	zone, served := w.zones[domain]
	w.mu.Unlock()
	if served {
		answer.Authoritative = true
		answer.Answer, answer.Rcode = lookUp(zone, domain, q)
		return
	}
	for _, name := range d.NameServers {
		answer.Ns = append(answer.Ns, must(fmt.Sprintf("%s 300 IN NS %s", domain, dns.Fqdn(name))))
		for _, a := range d.Glue[name] {
			answer.Extra = append(answer.Extra, addressRecord(name, a))
		}
	}
}

func addressRecord(name string, a netip.Addr) dns.RR {
	kind := "A"
	if a.Is6() {
		kind = "AAAA"
	}
	return must(fmt.Sprintf("%s 300 IN %s %s", dns.Fqdn(name), kind, a))
}

// ownRecords are those of the stand-in's own names, and the delegations of the top.
func (w *DNS) ownRecords(q dns.Question) ([]dns.RR, bool) {
	name := dns.CanonicalName(q.Name)
	switch {
	case name == dns.Fqdn(registry) || name == dns.Fqdn(Elsewhere):
		if q.Qtype == dns.TypeA && w.Address.Is4() {
			return []dns.RR{addressRecord(name, w.Address)}, true
		}
		return nil, true
	case dns.CountLabel(name) <= 1:
		if q.Qtype == dns.TypeNS {
			return []dns.RR{must(fmt.Sprintf("%s 300 IN NS %s.", name, registry))}, true
		}
		return nil, true
	}
	return nil, false
}

// lookUp answers from a zone.
func lookUp(zone []dns.RR, origin string, q dns.Question) ([]dns.RR, int) {
	name := dns.CanonicalName(q.Name)
	var found []dns.RR
	exists := false
	for _, rr := range zone {
		if dns.CanonicalName(rr.Header().Name) != name {
			exists = exists || dns.IsSubDomain(name, rr.Header().Name)
			continue
		}
		exists = true
		if rr.Header().Rrtype == q.Qtype || rr.Header().Rrtype == dns.TypeCNAME {
			found = append(found, rr)
			if alias, is := rr.(*dns.CNAME); is && q.Qtype != dns.TypeCNAME && dns.IsSubDomain(origin, alias.Target) {
				more, _ := lookUp(zone, origin, dns.Question{Name: alias.Target, Qtype: q.Qtype, Qclass: q.Qclass})
				found = append(found, more...)
			}
		}
	}
	if exists {
		return found, dns.RcodeSuccess
	}
	// A record for all names below answers for those that are not there (RFC 4592).
	for _, above, _ := strings.Cut(name, "."); dns.IsSubDomain(origin, above); _, above, _ = strings.Cut(above, ".") {
		for _, rr := range zone {
			if dns.CanonicalName(rr.Header().Name) == "*."+above {
				exists = true
				if rr.Header().Rrtype == q.Qtype {
					made := dns.Copy(rr)
					made.Header().Name = name
					found = append(found, made)
				}
			}
		}
		if exists {
			return found, dns.RcodeSuccess
		}
	}
	return nil, dns.RcodeNameError
}

// deepest bounds how far a question is followed.
const deepest = 8

// resolve answers as a resolver would, following delegations and aliases.
func (w *DNS) resolve(q dns.Question, depth int) ([]dns.RR, int) {
	if depth > deepest {
		return nil, dns.RcodeServerFailure
	}
	q.Name = dns.CanonicalName(q.Name)
	if records, own := w.ownRecords(q); own {
		return records, dns.RcodeSuccess
	}
	w.mu.Lock()
	r, known := w.memory[q]
	w.mu.Unlock()
	if left := time.Until(r.until); known && left > 0 {
		var records []dns.RR
		for _, rr := range r.records {
			rr = dns.Copy(rr)
			rr.Header().Ttl = uint32(left.Seconds())
			records = append(records, rr)
		}
		return records, r.code
	}
	domain, d, known := w.domainOf(q.Name)
	if !known {
		return nil, dns.RcodeNameError
	}
	reply := new(dns.Msg)
	w.mu.Lock()
	_, served := w.zones[domain]
	w.mu.Unlock()
	if served || q.Qtype == dns.TypeDS && q.Name == domain {
		w.authority(q, reply)
	} else if glue := d.Glue[strings.TrimSuffix(q.Name, ".")]; len(glue) > 0 {
		reply = new(dns.Msg)
		for _, a := range glue { // what the registry knows of a name server is enough to go by
			if a.Is4() == (q.Qtype == dns.TypeA) && (q.Qtype == dns.TypeA || q.Qtype == dns.TypeAAAA) {
				reply.Answer = append(reply.Answer, addressRecord(q.Name, a))
			}
		}
	} else if reply = w.follow(q, d, depth); reply == nil {
		return nil, dns.RcodeServerFailure
	}
	records := reply.Answer
	if n := len(records); n > 0 && q.Qtype != dns.TypeCNAME {
		if alias, is := records[n-1].(*dns.CNAME); is {
			more, code := w.resolve(dns.Question{Name: alias.Target, Qtype: q.Qtype, Qclass: q.Qclass}, depth+1)
			records, reply.Rcode = append(records, more...), code
		}
	}
	ttl := uint32(5) // that there is nothing is forgotten soon
	for i, rr := range records {
		if i == 0 || rr.Header().Ttl < ttl {
			ttl = rr.Header().Ttl
		}
	}
	w.mu.Lock()
	w.memory[q] = remembered{records, reply.Rcode, time.Now().Add(time.Duration(ttl) * time.Second)}
	w.mu.Unlock()
	return records, reply.Rcode
}

// follow asks the name servers of a domain, one after the other.
func (w *DNS) follow(q dns.Question, d Delegation, depth int) *dns.Msg {
	for _, name := range d.NameServers {
		addresses := d.Glue[name]
		for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
			if len(addresses) > 0 {
				break
			}
			found, _ := w.resolve(dns.Question{Name: dns.Fqdn(name), Qtype: kind, Qclass: dns.ClassINET}, depth+1)
			for _, rr := range found {
				if a, err := netip.ParseAddr(strings.TrimPrefix(rr.String(), rr.Header().String())); err == nil {
					addresses = append(addresses, a)
				}
			}
		}
		for _, a := range addresses {
			question := new(dns.Msg).SetQuestion(q.Name, q.Qtype)
			question.RecursionDesired = false
			question.SetEdns0(1232, false)
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			client := dns.Client{}
			reply, _, err := client.ExchangeContext(ctx, question, netip.AddrPortFrom(a, 53).String())
			if err == nil && reply.Truncated {
				client.Net = "tcp"
				reply, _, err = client.ExchangeContext(ctx, question, netip.AddrPortFrom(a, 53).String())
			}
			cancel()
			if err == nil && (reply.Rcode == dns.RcodeSuccess || reply.Rcode == dns.RcodeNameError) {
				return reply
			}
		}
	}
	return nil
}
