package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
)

// crowd is how many accounts, with a site each, share one server.
var crowd = 5_000

// Sites are visited as sites are: the first most, the second half as much, the third a third of it,
// and so on. So many requests for each, on a server where so many a day make a site busy, make some
// 850 of 5,000 sites busy.
const (
	visits    = 48
	busySite  = 31
	busyRound = 20 * time.Second
)

// crowded measures work on a server that is full of sites.
func (b *bench) crowded(ctx context.Context, say func(string), rounds int) ([]row, error) {
	rows, err := b.fill(ctx, say)
	if err != nil {
		return nil, err
	}
	say("the same sites on fulmar, with a certificate in each block")
	if err := b.blocks(ctx); err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%d visits", visits*crowd))
	busy, err := b.visit(ctx)
	if err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%d sites are busy now", busy))

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
		if _, err := b.script.Exec(ctx, "sh", "-ec", `nginx -t -q; old=$(pgrep -P "$(cat /run/nginx.pid)" | head -1); nginx -s reload
			while grep -qs "worker process$" "/proc/$old/cmdline" || tr '\0' ' ' < "/proc/$old/cmdline" 2>/dev/null | grep -q "worker process *$"; do sleep 0.005; done`); err != nil {
			return nil, err
		}
		theirs = append(theirs, time.Since(begun))
	}
	rows = append(rows, compare(fmt.Sprintf("one more site beside %d (%d busy), from call to verified answer; "+
		"nginx -t and a reload with a certificate in each block", crowd, busy), median(ours[1:]), median(theirs[1:]),
		func(r float64) bool { return r <= 0.2 }, "at most 0.2"))

	say("TLS handshakes")
	rates, err := b.handshakes(ctx)
	if err != nil {
		return nil, err
	}
	rows = append(rows, rates...)
	perSite := make([]float64, 2)
	for n, server := range []*lab.Server{b.ours, b.script} {
		if perSite[n], err = nginxMemory(ctx, server); err != nil {
			return nil, err
		}
	}
	rows = append(rows, row{"memory of nginx, for each site; with a certificate in each block",
		fmt.Sprintf("%.0f KiB", perSite[0]), fmt.Sprintf("%.0f KiB", perSite[1]),
		fmt.Sprintf("%.2f", perSite[0]/perSite[1]), "below 1", perSite[0] < perSite[1]})

	say("a sweep")
	before, err := b.agentSeconds(ctx)
	if err != nil {
		return nil, err
	}
	begun := time.Now()
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
	return append(rows,
		row{"memory of the supervisor of sandboxes and its keeper for those accounts, at rest",
			fmt.Sprintf("%d MiB", resting),
			"", "", "below 30 MB", resting < 29},
		row{fmt.Sprintf("sweep of those accounts: processor time of the agent (%s in all)", ms(took)),
			fmt.Sprintf("%.2f s", used), "", "", "below 5 s", used < 5},
		row{"memory of the agent after that", fmt.Sprintf("%d MiB", memory), "", "", "below 40 MB", memory < 38}), nil
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
	text, err := b.ours.Exec(ctx, "sh", "-c", `cat "/proc/$(pgrep -f "victualler-agent .*run" | head -1)/stat"`)
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

// fill opens the accounts through the API, many calls side by side.
func (b *bench) fill(ctx context.Context, say func(string)) ([]row, error) {
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "crowd",
		Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB),
			plans.Domains: plans.Of(50), plans.Subdomains: plans.Of(50), plans.PHPWorkers: plans.Of(3)}},
		nil); err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%d accounts are opened on skua", crowd))
	begun := time.Now()
	var opened atomic.Int64
	errs := make([]error, 192)
	var group sync.WaitGroup
	for caller := range errs {
		group.Go(func() {
			for n := caller + 1; n <= crowd && ctx.Err() == nil; n += len(errs) {
				var opening api.Opening
				err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: fmt.Sprintf("crowd%d.example", n),
					Plan: "crowd", Customer: "Bench", Server: "skua"}, &opening)
				if err == nil {
					err = b.finished(ctx, opening.Operation)
				}
				if err != nil {
					errs[caller] = err
					return
				}
				if done := opened.Add(1); done%500 == 0 {
					say(fmt.Sprintf("%d, %.1f/s", done, float64(done)/time.Since(begun).Seconds()))
				}
			}
		})
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	took := time.Since(begun)
	rate := float64(crowd) / took.Seconds()
	used, err := b.memory()
	what := fmt.Sprintf("%d accounts opened on one server, sites answering with and without TLS (%s in all)", crowd,
		took.Round(time.Second))
	return append([]row{{what, fmt.Sprintf("%.1f/s", rate), "", "", "at least 15/s", rate >= 15}}, used...), err
}

// blocks puts the crowd's sites of skua on fulmar with their
// certificates in each block that speaks TLS.
func (b *bench) blocks(ctx context.Context) error {
	from := b.ours.Command(ctx, "sh", "-c", "cd /etc/nginx/victualler && tar -cf - accounts/crowd*.conf tls/crowd*")
	to := b.script.Command(ctx, "sh", "-ec", `cd /etc/nginx/victualler && tar -xf -
		for f in accounts/*.conf; do
			a=${f##*/}; awk -v dir="/etc/nginx/victualler/tls/${a%.conf}/" '{ print }
				/^ *server_name / { name = $2; sub(/;$/, "", name); sub(/^www\./, "", name) }
				/include .*\/tls.conf;/ { print "ssl_certificate " dir name ".pem;\nssl_certificate_key " dir name ".key;" }' "$f" > /tmp/block
			cat /tmp/block > "$f"
		done
		nginx -t -q && nginx -s reload`)
	var err error
	if to.Stdin, err = from.StdoutPipe(); err != nil {
		return err
	}
	var said bytes.Buffer
	to.Stdout, to.Stderr = &said, &said
	if err := errors.Join(from.Start(), to.Run(), from.Wait()); err != nil {
		return fmt.Errorf("%w: %s", err, said.String())
	}
	return nil
}

// drawn returns sites as they are visited.
func drawn(r *rand.Rand) func() string {
	sums := make([]float64, crowd)
	sum := 0.0
	for n := range sums {
		sum += 1 / float64(n+1)
		sums[n] = sum
	}
	return func() string {
		n, _ := slices.BinarySearch(sums, r.Float64()*sum)
		return fmt.Sprintf("crowd%d.example", n+1)
	}
}

// visit has the sites visited, and returns how many of them are busy by that.
func (b *bench) visit(ctx context.Context) (int, error) {
	errs := make([]error, 8)
	var group sync.WaitGroup
	for visitor := range errs {
		group.Go(func() {
			site := drawn(rand.New(rand.NewPCG(1, uint64(visitor))))
			var browser http.Client
			for range visits * crowd / len(errs) {
				request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+b.ours.Address.String()+"/",
					nil)
				if err == nil {
					request.Host = site()
					var answer *http.Response
					if answer, err = browser.Do(request); err == nil {
						_, _ = io.Copy(io.Discard, answer.Body)
						err = answer.Body.Close()
					}
				}
				if err != nil {
					errs[visitor] = err
					return
				}
			}
		})
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return 0, err
	}
	before := -1
	for {
		out, err := b.ours.Exec(ctx, "sh", "-c", `grep -l "busy\":true" /var/lib/victualler-agent/accounts/* | wc -l`)
		if err != nil {
			return 0, err
		}
		busy, err := strconv.Atoi(strings.TrimSpace(out))
		if err != nil {
			return 0, err
		}
		if busy > 100 && busy == before {
			return busy, nil
		}
		before = busy
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(3 * busyRound):
		}
	}
}

// handshakes measures full TLS handshakes, with sites drawn as they are
// visited, and with sites that nobody visits.
func (b *bench) handshakes(ctx context.Context) ([]row, error) {
	measure := func(server *lab.Server, site func(*rand.Rand) func() string) (float64, error) {
		const lasting = 5 * time.Second
		var done atomic.Int64
		errs := make([]error, 4)
		var group sync.WaitGroup
		begun := time.Now()
		for visitor := range errs {
			group.Go(func() {
				next := site(rand.New(rand.NewPCG(2, uint64(visitor))))
				for time.Since(begun) < lasting {
					// Without a cache of sessions, each handshake is a full one.
					conn, err := tls.Dial("tcp", server.Address.String()+":443", &tls.Config{ServerName: next(),
						InsecureSkipVerify: true})
					if err != nil {
						errs[visitor] = err
						return
					}
					conn.Close()
					done.Add(1)
				}
			})
		}
		group.Wait()
		return float64(done.Load()) / time.Since(begun).Seconds(), errors.Join(errs...)
	}
	quiet := func(r *rand.Rand) func() string {
		return func() string { return fmt.Sprintf("crowd%d.example", crowd/2+r.IntN(crowd/2)) }
	}
	var rows []row
	for _, kind := range []struct {
		what   string
		site   func(*rand.Rand) func() string
		target string
	}{{"full TLS handshakes with sites as they are visited; with a certificate in each block", drawn, "at least 0.8"},
		{"full TLS handshakes with sites that are hardly visited; the same", quiet, ""}} {
		var rates [2][]float64
		for range 5 {
			for n, server := range []*lab.Server{b.ours, b.script} {
				rate, err := measure(server, kind.site)
				if err != nil {
					return nil, err
				}
				rates[n] = append(rates[n], rate)
			}
		}
		slices.Sort(rates[0])
		slices.Sort(rates[1])
		ours, theirs := rates[0][2], rates[1][2]
		rows = append(rows, row{kind.what, fmt.Sprintf("%.0f/s", ours), fmt.Sprintf("%.0f/s", theirs),
			fmt.Sprintf("%.2f", ours/theirs), kind.target, ours >= 0.8*theirs})
	}
	return rows, nil
}

// nginxMemory is what all processes of nginx use together (what they
// share counted once), in KiB for each site.
func nginxMemory(ctx context.Context, server *lab.Server) (float64, error) {
	out, err := server.Exec(ctx, "sh", "-ec",
		`m=$(cat /run/nginx.pid); cat "/proc/$m/smaps_rollup" $(pgrep -P "$m" | sed 's|.*|/proc/&/smaps_rollup|')`)
	if err != nil {
		return 0, err
	}
	total := 0
	for line := range strings.Lines(out) {
		if text, is := strings.CutPrefix(line, "Pss:"); is {
			var kib int
			if _, err := fmt.Sscan(text, &kib); err != nil {
				return 0, err
			}
			total += kib
		}
	}
	return float64(total) / float64(crowd), nil
}
