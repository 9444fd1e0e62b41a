package main

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"victualler/internal/api"
)

// crowd is how many accounts, with a site each, share one server.
var crowd = 5_000

// crowded measures work on a server that is full of sites.
func (b *bench) crowded(ctx context.Context, say func(string), rounds int) ([]row, error) {
	conn, err := pgx.Connect(ctx, b.Postgres.URL)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	say(fmt.Sprintf("%d accounts come to skua", crowd))
	begun := time.Now()
	for _, statement := range []string{
		fmt.Sprintf(`insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id) select 'crowd' || n, 'crowd' || n || '.example', (select id from customers where name = 'Bench'),
			(select id from plans where name = 'bench'), (select id from servers where label = 'skua') from generate_series(1, %d) n`, crowd),
		`insert into domains (account_id, name, registrable, main, root) select id, main_domain, main_domain, true, 'sites/' || main_domain from accounts where sign_in_name like 'crowd%'`,
		`insert into account_servers (account_id, server_id) select id, server_id from accounts where sign_in_name like 'crowd%'`,
		`insert into logins (account_id, name, main) select id, sign_in_name, true from accounts where sign_in_name like 'crowd%'`,
		`update plan_limits set amount = 50 where key in ('domains', 'subdomains')`,
		`analyze`,
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return nil, err
		}
	}
	// A sweep has whatever is behind applied.
	if err := b.sweep(ctx); err != nil {
		return nil, err
	}
	for behind, last := 1, time.Now(); behind > 0; {
		if err := conn.QueryRow(ctx,
			`select count(*) from accounts where applied_revision < revision and sign_in_name like 'crowd%'`).Scan(
			&behind); err != nil {
			return nil, err
		}
		if time.Since(last) > 20*time.Second {
			say(fmt.Sprintf("%d are still to come", behind))
			last = time.Now()
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
	say(fmt.Sprintf("they came in %s", time.Since(begun).Round(time.Second)))

	say("one more site, in turn with a bare test and reload")
	var ours, theirs []time.Duration
	for n := range rounds + 1 {
		begun := time.Now()
		var added api.DomainChanged
		if err := b.Client.Post(ctx, "/accounts/crowd1/domains",
			api.NewDomain{Domain: fmt.Sprintf("one-more%d.crowd1.example", n),
				Serving: api.Serving{ServedAs: "redirect", Target: "https://crowd2.example"}}, &added); err != nil {
			return nil, err
		}
		if err := b.finished(ctx, added.Operation); err != nil {
			return nil, err
		}
		ours = append(ours, time.Since(begun))
		begun = time.Now()
		// The reload is over when the old workers have been told to end.
		if _, err := b.ours.Exec(ctx, "sh", "-ec", `nginx -t -q; old=$(pgrep -P "$(cat /run/nginx.pid)" | head -1); nginx -s reload
			while grep -qs "worker process$" "/proc/$old/cmdline" || tr '\0' ' ' < "/proc/$old/cmdline" 2>/dev/null | grep -q "worker process *$"; do sleep 0.005; done`); err != nil {
			return nil, err
		}
		theirs = append(theirs, time.Since(begun))
	}
	one := compare(fmt.Sprintf("one more site beside %d, from call to verified answer; nginx -t and a reload", crowd),
		median(ours[1:]), median(theirs[1:]), func(r float64) bool {
			return r <= 2
		}, "at most 2")

	say("a sweep")
	before, err := b.agentSeconds(ctx)
	if err != nil {
		return nil, err
	}
	begun = time.Now()
	if err := b.sweep(ctx); err != nil {
		return nil, err
	}
	took := time.Since(begun)
	after, err := b.agentSeconds(ctx)
	if err != nil {
		return nil, err
	}
	memory, err := residentMiB("", b.ours)
	if err != nil {
		return nil, err
	}
	resting, err := b.resting(ctx)
	if err != nil {
		return nil, err
	}
	used := after - before
	return []row{one,
		{"memory of the supervisor of sandboxes and its keeper for those accounts, at rest",
			fmt.Sprintf("%d MiB", resting),
			"", "", "below 30 MB", resting < 29},
		{fmt.Sprintf("sweep of those accounts: processor time of the agent (%s in all)", ms(took)),
			fmt.Sprintf("%.2f s", used), "", "", "below 5 s", used < 5},
		{"memory of the agent after that", fmt.Sprintf("%d MiB", memory), "", "", "below 40 MB", memory < 38}}, nil
}

func (b *bench) sweep(ctx context.Context) error {
	var started api.Started
	if err := b.Client.Post(ctx, "/servers/skua/sweep", nil, &started); err != nil {
		return err
	}
	return b.finished(ctx, started.Operation)
}

// agentSeconds is the processor time that the agent has used, with its children (proc(5), stat).
func (b *bench) agentSeconds(ctx context.Context) (float64, error) {
	text, err := b.ours.Exec(ctx, "sh", "-c", `cat "/proc/$(pgrep -f "victualler-agent run" | head -1)/stat"`)
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(text, ") ")
	fields := strings.Fields(rest)
	ticks := 0
	for _, at := range []int{11, 12, 13, 14} { // utime, stime, cutime, cstime
		n, err := strconv.Atoi(fields[at])
		if err != nil {
			return 0, err
		}
		ticks += n
	}
	return float64(ticks) / 100, nil
}
