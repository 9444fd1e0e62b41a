// Package resolve asks public DNS: a resolver, the authoritative servers to which it
// leads, and for whole zones.
package resolve

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Resolver asks one recursive name server. Make one with [New].
type Resolver struct {
	address string
}

// timeout is how long one question may take.
const timeout = 3 * time.Second

// New returns a resolver that asks the server at an address (host and
// port); empty is the machine's own (resolv.conf(5)).
func New(address string) *Resolver {
	if address != "" {
		return &Resolver{address}
	}
	config, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil || len(config.Servers) == 0 {
		if _, missing := os.Stat("/etc/resolv.conf"); missing != nil {
			err = missing
		}
		return &Resolver{net.JoinHostPort("127.0.0.1", "53")} // what resolv.conf(5) says for a machine without one
	}
	return &Resolver{net.JoinHostPort(config.Servers[0], config.Port)}
}

// Answer is what a server says about one name and type.
type Answer struct {
	// Data are the records in presentation form, sorted.
	Data []string
	// TTL is the least time to live of them, in seconds.
	TTL uint32
	// Authoritative says that the server itself is in charge.
	Authoritative bool
	// Missing says that the name does not exist.
	Missing bool
}

// Standard is a resolver of the standard library that asks the same server.
func (r *Resolver) Standard() *net.Resolver {
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: timeout}).DialContext(ctx, network, r.address)
	}}
}

// Ask asks the resolver. That there are no such records is an answer and no error.
func (r *Resolver) Ask(ctx context.Context, name, kind string) (Answer, error) {
	return ask(ctx, r.address, name, kind, question{recursive: true})
}

// Unsigned reports whether the resolver knows a name when it is asked not to check signatures (RFC
// 4035, section 3.2.2). Where it does not answer else, these do not hold.
func (r *Resolver) Unsigned(ctx context.Context, name string) bool {
	_, err := ask(ctx, r.address, name, "SOA", question{recursive: true, unchecked: true})
	return err == nil
}

// AskAt asks one authoritative server.
func AskAt(ctx context.Context, server netip.Addr, name, kind string) (Answer, error) {
	return ask(ctx, netip.AddrPortFrom(server, 53).String(), name, kind, question{})
}

// ErrRefused wraps answers such as REFUSED and SERVFAIL.
var ErrRefused = errors.New("the name server does not answer the question")

// question is how a server is asked.
type question struct{ recursive, unchecked bool }

func ask(ctx context.Context, address, name, kind string, how question) (Answer, error) {
	t, known := dns.StringToType[kind]
	if !known {
		return Answer{}, fmt.Errorf("%s is no type of record", kind)
	}
	question := new(dns.Msg).SetQuestion(dns.Fqdn(name), t)
	question.RecursionDesired, question.CheckingDisabled = how.recursive, how.unchecked
	question.SetEdns0(1232, false)
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	client := dns.Client{Timeout: timeout / 3}
	reply, _, err := client.ExchangeContext(ctx, question, address)
	for try := 1; err != nil && try < 3 && ctx.Err() == nil; try++ { // a datagram may be lost
		reply, _, err = client.ExchangeContext(ctx, question, address)
	}
	if err == nil && reply.Truncated {
		client.Net = "tcp"
		reply, _, err = client.ExchangeContext(ctx, question, address)
	}
	if err != nil {
		return Answer{}, fmt.Errorf("no answer from %s: %w", address, err)
	}
	a := Answer{Authoritative: reply.Authoritative}
	switch reply.Rcode {
	case dns.RcodeSuccess:
	case dns.RcodeNameError:
		a.Missing = true
		return a, nil
	default:
		return a, fmt.Errorf("%w (%s)", ErrRefused, dns.RcodeToString[reply.Rcode])
	}
	for _, rr := range reply.Answer {
		if rr.Header().Rrtype != t {
			continue
		}
		if len(a.Data) == 0 || rr.Header().Ttl < a.TTL {
			a.TTL = rr.Header().Ttl
		}
		a.Data = append(a.Data, Data(rr))
	}
	slices.Sort(a.Data)
	return a, nil
}

// Data returns what a record says, in presentation form.
func Data(rr dns.RR) string { return strings.TrimPrefix(rr.String(), rr.Header().String()) }

// Normal returns data as [Answer] has it, so that the two can be compared.
func Normal(kind, data string) string {
	rr, err := dns.NewRR(". 0 IN " + kind + " " + data)
	if err != nil || rr == nil {
		return data
	}
	return Data(rr)
}

// Addresses returns the IPv4 and IPv6 addresses of a name; none is no error.
func (r *Resolver) Addresses(ctx context.Context, name string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a}, nil
	}
	var list []netip.Addr
	var errs []error
	for _, kind := range []string{"A", "AAAA"} {
		answer, err := r.Ask(ctx, name, kind)
		errs = append(errs, err)
		for _, data := range answer.Data {
			if a, err := netip.ParseAddr(data); err == nil {
				list = append(list, a)
			}
		}
	}
	if len(list) > 0 {
		return list, nil
	}
	return nil, errors.Join(errs...)
}

// mostTransferred bounds a zone transfer, in records.
const mostTransferred = 10_000

// Transfer returns all records of a zone as lines of a zone file, by zone transfer (RFC 5936).
func Transfer(ctx context.Context, server netip.Addr, zone string) (string, error) {
	request := new(dns.Msg).SetAxfr(dns.Fqdn(zone))
	transfer := &dns.Transfer{DialTimeout: timeout, ReadTimeout: 2 * timeout}
	deadline, cancel := context.WithTimeout(ctx, 4*timeout)
	defer cancel()
	conn, err := (&net.Dialer{Timeout: timeout}).DialContext(deadline, "tcp", netip.AddrPortFrom(server, 53).String())
	if err != nil {
		return "", err
	}
	defer conn.Close()
	transfer.Conn = &dns.Conn{Conn: conn}
	envelopes, err := transfer.In(request, "")
	if err != nil {
		return "", err
	}
	var b strings.Builder
	n, authorities := 0, 0
	for e := range envelopes {
		if e.Error != nil {
			return "", e.Error
		}
		for _, rr := range e.RR {
			if rr.Header().Rrtype == dns.TypeSOA {
				if authorities++; authorities == 2 {
					continue // a transfer begins and ends with it
				}
			}
			if n++; n > mostTransferred {
				return "", fmt.Errorf("the zone has more than %d records", mostTransferred)
			}
			b.WriteString(rr.String() + "\n")
		}
	}
	return b.String(), nil
}

// Delegation is what a parent zone says about a zone below it.
type Delegation struct {
	// Servers are the names of the name servers, without dots at their ends, sorted.
	Servers []string
	// Glue are the addresses that the parent knows of them.
	Glue map[string][]netip.Addr
	// DS are the DS records, in presentation form.
	DS []string
}

// Delegation asks the servers of the parent zone where a zone is. No delegation is no error.
func (r *Resolver) Delegation(ctx context.Context, zone string) (Delegation, error) {
	out := Delegation{Glue: map[string][]netip.Addr{}}
	servers, err := r.parents(ctx, zone)
	if err != nil {
		return out, err
	}
	var failed error
	for _, server := range servers {
		question := new(dns.Msg).SetQuestion(dns.Fqdn(zone), dns.TypeNS)
		question.RecursionDesired = false
		ask, cancel := context.WithTimeout(ctx, timeout)
		reply, err := dns.ExchangeContext(ask, question, netip.AddrPortFrom(server, 53).String())
		cancel()
		if err != nil {
			failed = err
			continue
		}
		if reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
			failed = fmt.Errorf("%w (%s)", ErrRefused, dns.RcodeToString[reply.Rcode])
			continue
		}
		for _, rr := range append(reply.Answer, reply.Ns...) {
			if ns, is := rr.(*dns.NS); is && strings.EqualFold(ns.Hdr.Name, dns.Fqdn(zone)) {
				out.Servers = append(out.Servers, strings.ToLower(strings.TrimSuffix(ns.Ns, ".")))
			}
		}
		for _, rr := range reply.Extra {
			name := strings.ToLower(strings.TrimSuffix(rr.Header().Name, "."))
			if a, err := netip.ParseAddr(Data(rr)); err == nil {
				out.Glue[name] = append(out.Glue[name], a)
			}
		}
		slices.Sort(out.Servers)
		out.Servers = slices.Compact(out.Servers)
		ds, err := AskAt(ctx, server, zone, "DS")
		out.DS = ds.Data
		return out, err
	}
	return out, fmt.Errorf("the parent of %s does not answer: %w", zone, failed)
}

// parents returns the addresses of the servers of the zone above a zone.
func (r *Resolver) parents(ctx context.Context, zone string) ([]netip.Addr, error) {
	for parent := zone; parent != "."; {
		if _, rest, found := strings.Cut(parent, "."); found {
			parent = rest
		} else {
			parent = "."
		}
		answer, err := r.Ask(ctx, parent, "NS")
		if err != nil {
			return nil, err
		}
		var list []netip.Addr
		for _, name := range answer.Data {
			found, err := r.Addresses(ctx, strings.TrimSuffix(name, "."))
			if err == nil {
				list = append(list, found...)
			}
		}
		if len(list) > 0 {
			return list, nil
		}
	}
	return nil, fmt.Errorf("the name servers above %s cannot be found", zone)
}

// Keys are the keys of a signed zone.
type Keys struct {
	Keys []*dns.DNSKEY
	// DS are those that a parent should have: one for each key-signing
	// key, with SHA-256 (RFC 4509).
	DS []string
}

// KeysAt asks an authoritative server for the keys of a zone; none for one that is not signed.
func KeysAt(ctx context.Context, server netip.Addr, zone string) (Keys, error) {
	var out Keys
	answer, err := AskAt(ctx, server, zone, "DNSKEY")
	if err != nil {
		return out, err
	}
	for _, data := range answer.Data {
		rr, err := dns.NewRR(dns.Fqdn(zone) + " 0 IN DNSKEY " + data)
		if err != nil {
			return out, err
		}
		key, is := rr.(*dns.DNSKEY)
		if !is {
			continue
		}
		out.Keys = append(out.Keys, key)
		if key.Flags&dns.SEP != 0 {
			out.DS = append(out.DS, Data(key.ToDS(dns.SHA256)))
		}
	}
	return out, nil
}
