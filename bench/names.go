package main

import (
	"context"
	_ "embed"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
)

//go:embed names.sh
var namesScript string

// byHandPort is where the name servers that are set up by hand answer, on the same servers.
const byHandPort = 5300

// nameService measures how long a record takes until both name servers answer with it: added
// through the service, and with knsupdate by hand.
func (b *bench) nameService(ctx context.Context, say func(string), rounds int) ([]row, error) {
	servers := []*lab.Server{b.ours, b.script}
	for n, s := range servers {
		if _, err := s.Exec(ctx, "sh", "-ec", namesScript, "sh", []string{"primary", "secondary"}[n],
			servers[1-n].Address.String(), fmt.Sprint(byHandPort)); err != nil {
			return nil, err
		}
	}
	names := []string{"ns1.bench.example", "ns2.bench.example"}
	if err := b.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/settings",
		Body: api.SettingsChange{NameServers: &names}}, nil); err != nil {
		return nil, err
	}
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "named",
		Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1),
			plans.PHPWorkers: plans.Of(3)}, Features: plans.Features{"dns": true}}, nil); err != nil {
		return nil, err
	}
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "records.example", Plan: "named",
		Customer: "Bench", Server: "skua"}, &opening); err != nil {
		return nil, err
	}
	if err := b.finished(ctx, opening.Operation); err != nil {
		return nil, err
	}
	say("records through the service, and with knsupdate, in turn")
	var ours, theirs []time.Duration
	for n := range rounds + 1 {
		name, data := fmt.Sprintf("r%d", n), fmt.Sprintf("192.0.2.%d", n+1)
		time.Sleep(2500 * time.Millisecond) // a secondary asks for one zone every 2 seconds at most
		begun := time.Now()
		var added api.ZoneChanged
		if err := b.Client.Post(ctx, "/zones/records.example/records", api.NewRecord{Name: name, Type: "A", Data: data},
			&added); err != nil {
			return nil, err
		}
		if err := answered(ctx, servers, 53, name+".records.example", data); err != nil {
			return nil, err
		}
		ours = append(ours, time.Since(begun))
		begun = time.Now()
		update := b.ours.Command(ctx, "knsupdate")
		update.Stdin = strings.NewReader(
			fmt.Sprintf("server 127.0.0.1 %d\nzone hand.example.\nupdate add %s.hand.example. 3600 A %s\nsend\n",
				byHandPort, name, data))
		if out, err := update.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("knsupdate: %w: %s", err, out)
		}
		if err := answered(ctx, servers, byHandPort, name+".hand.example", data); err != nil {
			return nil, err
		}
		theirs = append(theirs, time.Since(begun))
	}
	return []row{compare("one record more, from call to the answer of both name servers; knsupdate", median(ours[1:]),
		median(theirs[1:]), func(r float64) bool {
			return r <= 3
		}, "at most 3")}, nil
}

// answered waits until all servers answer with an address.
func answered(ctx context.Context, servers []*lab.Server, port uint16, name, data string) error {
	for _, s := range servers {
		for end := time.Now().Add(10 * time.Second); ; {
			question := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.TypeA)
			reply, err := dns.ExchangeContext(ctx, question, netip.AddrPortFrom(s.Address, port).String())
			if err == nil && len(reply.Answer) == 1 && strings.HasSuffix(reply.Answer[0].String(), "\t"+data) {
				break
			}
			if time.Now().After(end) || ctx.Err() != nil {
				return fmt.Errorf("%s does not answer for %s: %v", s.Name, name, err)
			}
			time.Sleep(time.Millisecond)
		}
	}
	return nil
}
