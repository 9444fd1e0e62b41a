package dns

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/zones"
	"victualler/internal/resolve"
	"victualler/internal/service/usecase"
)

// checkTimeout is how long a check of a zone may take as a whole, and checksAtOnce how many
// questions are asked at a time.
const (
	checkTimeout = 20 * time.Second
	checksAtOnce = 16
)

// CheckZone asks public DNS about a zone: the parent, the authoritative
// servers to which it leads, and the resolver.
//
// Refusals: InvalidInput, NameTaken, NotFound, TooManyTries.
func (s *Service) CheckZone(ctx context.Context, a usecase.Actor, name string) (api.ZoneCheck, error) {
	z, _, err := s.loadZone(ctx, a, name)
	if err != nil {
		return api.ZoneCheck{}, err
	}
	if err := s.AllowProbe(ctx, a); err != nil {
		return api.ZoneCheck{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, checkTimeout)
	defer cancel()
	out := api.ZoneCheck{Zone: z.Row.Name, Parent: api.ZoneParent{Seen: []string{}, Wanted: []string{}, DS: []string{}},
		Servers: []api.ZoneServer{}, Sets: []api.ZoneSet{}, Problems: []api.ZoneProblem{}}
	if z.Row.Hosted == HostedHere {
		out.Parent.Wanted = z.serverNames()
	}
	delegation, err := s.Resolver.Delegation(ctx, z.Row.Name)
	if err != nil {
		out.Parent.Failed = err.Error()
	}
	out.Parent.Seen, out.Parent.DS = usecase.NonNil(delegation.Servers), usecase.NonNil(delegation.DS)
	answering := s.checkServers(ctx, a, z, delegation, &out)
	s.checkSets(ctx, z, answering, &out)
	keys := s.keysOf(ctx, z, answering)
	checkVerdict(a, z, keys, &out)
	return out, nil
}

// checkServers asks every address of every name server, IPv6 too,
// whether it answers for the zone, and returns those that do.
func (s *Service) checkServers(ctx context.Context, a usecase.Actor, z Zone, delegation resolve.Delegation,
	out *api.ZoneCheck) []netip.Addr {
	var answering []netip.Addr
	for _, name := range delegation.Servers {
		addresses, err := s.Resolver.Addresses(ctx, name)
		if len(addresses) == 0 {
			addresses = delegation.Glue[name]
		}
		if len(addresses) == 0 {
			seen := api.ZoneServer{Name: name, Failed: "the name has no address"}
			if err != nil {
				seen.Failed = err.Error()
			}
			out.Servers = append(out.Servers, seen)
		}
		for _, address := range addresses {
			seen := api.ZoneServer{Name: name, Address: address.String()}
			if err := s.MayCall(ctx, a, address); err != nil {
				seen.Failed = err.Error()
				out.Servers = append(out.Servers, seen)
				continue
			}
			answer, err := resolve.AskAt(ctx, address, z.Row.Name, "SOA")
			switch {
			case err != nil:
				seen.Failed = err.Error()
			case len(answer.Data) == 0 || !answer.Authoritative:
				seen.Failed = "it is not in charge of the zone"
			default:
				var number uint32
				if fields := strings.Fields(answer.Data[0]); len(fields) == 7 {
					fmt.Sscan(fields[2], &number)
				}
				seen.Serial = number
				answering = append(answering, address)
			}
			out.Servers = append(out.Servers, seen)
		}
	}
	return answering
}

// checkSets compares every set of records with what the authoritative
// servers answer and the resolver remembers.
func (s *Service) checkSets(ctx context.Context, z Zone, servers []netip.Addr, out *api.ZoneCheck) {
	wanted := zones.InForce(z.entries())
	if z.Row.Hosted == HostedElsewhere {
		wanted = nil
		for _, d := range z.derived {
			wanted = append(wanted, d.Record)
		}
	}
	sets := zones.Sets(wanted)
	out.Sets = make([]api.ZoneSet, len(sets))
	var group sync.WaitGroup
	places := make(chan struct{}, checksAtOnce)
	for i, set := range sets {
		places <- struct{}{}
		group.Go(func() {
			defer func() { <-places }()
			out.Sets[i] = s.checkSet(ctx, z.Row.Name, set, servers)
		})
	}
	group.Wait()
}

func (s *Service) checkSet(ctx context.Context, zone string, set zones.Set, servers []netip.Addr) api.ZoneSet {
	kind := string(set.Type)
	seen := api.ZoneSet{Name: set.Name, Type: kind, Wanted: []string{}, Seen: []string{}}
	name := zone
	if set.Name != "@" {
		name = set.Name + "." + zone
	}
	name = strings.Replace(name, "*", "any-name", 1) // what a wildcard answers for
	for _, data := range set.Data {
		seen.Wanted = append(seen.Wanted, resolve.Normal(kind, data))
	}
	slices.Sort(seen.Wanted)
	var answers [][]string
	for _, server := range servers {
		answer, err := resolve.AskAt(ctx, server, name, kind)
		if err != nil {
			continue
		}
		answers = append(answers, usecase.NonNil(answer.Data))
	}
	var remembered []string
	var ttl uint32
	if len(servers) > 0 {
		if answer, err := s.Resolver.Ask(ctx, name, kind); err == nil {
			remembered, ttl = usecase.NonNil(answer.Data), answer.TTL
		}
	}
	state := zones.Judge(seen.Wanted, answers, remembered)
	seen.State = string(state)
	switch state {
	case zones.Different:
		for _, answer := range answers {
			if !slices.Equal(answer, seen.Wanted) {
				seen.Seen = answer
			}
		}
	case zones.Waiting:
		seen.Seen, seen.Until = remembered, int64(ttl)
	}
	return seen
}

// keysOf asks for the keys of a zone that is signed here.
func (s *Service) keysOf(ctx context.Context, z Zone, servers []netip.Addr) resolve.Keys {
	for _, server := range servers {
		if keys, err := resolve.KeysAt(ctx, server, z.Row.Name); err == nil {
			return keys
		}
	}
	return resolve.Keys{}
}

// checkVerdict tells the actor what it comes to, and what is to be done.
func checkVerdict(a usecase.Actor, z Zone, keys resolve.Keys, out *api.ZoneCheck) {
	title := usecase.Unicode(z.Row.Name)
	problem := func(what, do language.Text) {
		out.Problems = append(out.Problems, api.ZoneProblem{Problem: what.In(a.Language), Fix: do.In(a.Language)})
	}
	say := language.New
	ours := slices.Sorted(slices.Values(out.Parent.Wanted))
	led := z.Row.Hosted == HostedElsewhere || slices.Equal(ours, out.Parent.Seen)
	switch {
	case out.Parent.Failed != "":
		problem(say("the parent zone could not be asked: %s", out.Parent.Failed), say("try again in a while"))
	case len(out.Parent.Seen) == 0 && z.Row.Hosted == HostedHere:
		problem(say("public DNS does not know %s: it is not delegated", title),
			say("register it, or have the registrar delegate it to %s", strings.Join(ours, ", ")))
	case len(out.Parent.Seen) == 0:
		problem(say("public DNS does not know %s: it is not delegated", title), say("register it with a registrar"))
	case !led:
		problem(say("%s is delegated to %s", title, strings.Join(out.Parent.Seen, ", ")),
			say("have the registrar delegate it to %s, and only to these", strings.Join(ours, ", ")))
	}
	for _, server := range out.Servers {
		if server.Failed != "" {
			problem(say("%s does not answer for the zone: %s", strings.TrimSpace(server.Name+" "+server.Address),
				server.Failed), say("look at that name server, or take it out of the delegation"))
		}
	}
	if led && len(out.Parent.DS) > 0 && len(out.Servers) > 0 {
		matches := slices.ContainsFunc(out.Parent.DS, func(ds string) bool { return hasDS(keys.DS, ds) })
		switch {
		case len(keys.Keys) == 0:
			problem(say("the parent has a DS record, but the zone is not signed: whoever checks signatures loses it"),
				say("sign the zone, or have the registrar remove the DS record"))
		case !matches:
			problem(say("no key of the zone fits the parent's DS record: whoever checks signatures loses it"),
				say("give the registrar the DS record that the zone shows"))
		}
	}
	count := map[zones.State]int{}
	for _, set := range out.Sets {
		count[zones.State(set.State)]++
		switch zones.State(set.State) {
		case zones.Missing:
			if z.Row.Hosted == HostedElsewhere {
				problem(say("%s %s is missing", set.Name, set.Type),
					say("enter there: %s", strings.Join(set.Wanted, ", ")))
			}
		case zones.Different:
			if z.Row.Hosted == HostedElsewhere {
				problem(say("%s %s is %s", set.Name, set.Type, strings.Join(set.Seen, ", ")),
					say("change it there to %s", strings.Join(set.Wanted, ", ")))
			}
		}
	}
	wrong := count[zones.Missing] + count[zones.Different]
	switch {
	case len(out.Problems) > 0 && len(out.Parent.Seen) == 0:
		out.Verdict = out.Problems[0].Problem
	case len(out.Problems) > 0 && !led:
		out.Verdict = a.Say("public DNS has other name servers than ours for %s", title)
	case wrong > 0:
		out.Verdict = a.Say("%d of %s not as wanted", wrong, usecase.Counted(len(out.Sets), "set"))
	case len(out.Problems) > 0:
		out.Verdict = out.Problems[0].Problem
	case count[zones.Unknown] > 0:
		out.Verdict = a.Say("no authoritative server could be asked")
	case count[zones.Waiting] > 0:
		out.Verdict = a.Say("everything is right; older answers are still remembered for some time")
	default:
		out.Verdict, out.Right = a.Say("everything is right"), true
	}
	if z.Row.Hosted == HostedHere && z.Row.Dnssec && len(out.Parent.DS) == 0 && len(out.Problems) == 0 &&
		len(keys.DS) > 0 {
		problem(say("the zone is signed, and the parent does not say so yet"),
			say("give the registrar the DS record: %s", keys.DS[0]))
	}
}

func hasDS(list []string, ds string) bool {
	return slices.ContainsFunc(list, func(one string) bool {
		return strings.EqualFold(strings.ReplaceAll(one, " ", ""), strings.ReplaceAll(ds, " ", ""))
	})
}

// ZoneSigning tells how a zone is signed, asked just now at the primary name server and the parent.
//
// Refusals: ApplyFailed, InvalidInput, NameTaken, NoServer, NotFound, ServerUnreachable.
func (s *Service) ZoneSigning(ctx context.Context, a usecase.Actor, name string) (api.ZoneSigning, error) {
	out := api.ZoneSigning{Keys: []api.ZoneKey{}, DS: []string{}, CDS: []string{}, Parent: []string{}}
	z, _, err := s.loadZone(ctx, a, name)
	if err != nil {
		return out, err
	}
	out.Signed = z.Row.Dnssec
	if z.Row.Hosted == HostedElsewhere {
		out.State = "DNS is hosted elsewhere, and so is signing"
		return out, nil
	}
	parent, err := s.Resolver.Ask(ctx, z.Row.Name, "DS")
	failed := err
	out.Parent = usecase.NonNil(parent.Data)
	if out.Signed {
		primary, err := primaryNameServer(ctx, s.Store.Queries)
		if err != nil {
			return out, err
		}
		addresses, err := s.innerAddresses(ctx, primary)
		if err != nil {
			return out, err
		}
		keys, err := resolve.KeysAt(ctx, addresses[0], z.Row.Name)
		if err != nil {
			return out, usecase.Unreachable(primary.Label, err)
		}
		for _, key := range keys.Keys {
			k := api.ZoneKey{Tag: key.KeyTag(), Algorithm: key.Algorithm, Use: "zone-signing"}
			if key.Flags&dns.SEP != 0 {
				k.Use = "key-signing"
			}
			out.Keys = append(out.Keys, k)
		}
		cds, err := resolve.AskAt(ctx, addresses[0], z.Row.Name, "CDS")
		if err != nil {
			return out, usecase.Unreachable(primary.Label, err)
		}
		out.DS, out.CDS = usecase.NonNil(keys.DS), usecase.NonNil(cds.Data)
	}
	fits := slices.ContainsFunc(out.Parent, func(ds string) bool { return hasDS(out.DS, ds) })
	switch {
	case failed != nil:
		out.State = "what the parent says could not be asked: " + failed.Error()
	case !out.Signed && len(out.Parent) > 0:
		out.State = "the parent has a DS record, but the zone is not signed: whoever checks signatures loses it; " +
			"sign it, or have the registrar remove the DS record"
	case !out.Signed:
		out.State = "not signed"
	case len(out.DS) == 0:
		out.State = "keys are being made"
	case fits:
		out.State = "signed, and the parent says so: the chain is closed"
	case len(out.Parent) > 0:
		out.State = "the parent's DS record fits no key: whoever checks signatures loses the zone; give the " +
			"registrar the DS record shown"
	default:
		out.State = "signed; give the registrar the DS record to close the chain"
	}
	return out, nil
}

// transferred asks another name server for a whole zone.
func (s *Service) transferred(ctx context.Context, a usecase.Actor, name, server string) (string, error) {
	if err := mayTransfer(a); err != nil {
		return "", err
	}
	found, err := findZone(ctx, s.Store.Queries, a, name)
	if err != nil {
		return "", err
	}
	if err := s.AllowProbe(ctx, a); err != nil {
		return "", err
	}
	addresses, err := s.Resolver.Addresses(ctx, strings.TrimSuffix(strings.TrimSpace(server), "."))
	if err != nil || len(addresses) == 0 {
		return "", refusal.Input("server", "DNS has no address for %q", server)
	}
	if err := s.MayCall(ctx, a, addresses[0]); err != nil {
		return "", refusal.Input("server", "%q cannot be asked: %s. Give the text of a zone file instead", server, err)
	}
	text, err := resolve.Transfer(ctx, addresses[0], found.Name)
	if err != nil {
		return "", refusal.Input("server", "%s does not hand over %s: %s. Have it allow transfers to this service, "+
			"or give the text of a zone file", server, found.Name, err)
	}
	return text, nil
}
