package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
)

// page is what is asked for: as much work as a small application has with a page.
const page = `<?php for ($n = 0; $n < 8000; $n++) $x = md5("$n"); echo "page ", $x;`

// barePHP starts a bare PHP-FPM with one pool and the site that asks it.
//
//	sh -c barePHP sh DOMAIN
const barePHP = `set -eu
id bare >/dev/null 2>&1 || useradd --no-create-home bare
mkdir -p /srv/bare /run/php
cat > /srv/bare/page.php
cat > /etc/php/bare.conf <<POOL
[global]
error_log = /var/log/bare-php.log
[bare]
user = bare
group = bare
listen = /run/php/bare.sock
listen.owner = www-data
pm = ondemand
pm.max_children = 8
pm.process_idle_timeout = 10s
pm.max_requests = 500
POOL
cat > /etc/nginx/conf.d/bare.conf <<SITE
server {
    listen 80;
    server_name $1;
    root /srv/bare;
    location ~ \.php$ {
        try_files \$uri =404;
        include fastcgi_params;
        fastcgi_param SCRIPT_FILENAME \$document_root\$fastcgi_script_name;
        fastcgi_pass unix:/run/php/bare.sock;
    }
}
SITE
nginx -s reload`

// sandboxes measures PHP in sandboxes against a bare PHP-FPM.
func (b *bench) sandboxes(ctx context.Context, say func(string), rounds int) ([]row, error) {
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "unbounded", Limits: plans.Limits{
		plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1), plans.PHPWorkers: plans.Of(8),
		plans.Processes: plans.Unlimited, plans.Memory: plans.Unlimited, plans.CPU: plans.Unlimited}},
		nil); err != nil {
		return nil, err
	}
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "boxed.example", Plan: "unbounded",
		Customer: "Bench", Server: "skua"}, &opening); err != nil {
		return nil, err
	}
	if err := b.finished(ctx, opening.Operation); err != nil {
		return nil, err
	}
	if err := b.feed(ctx, b.ours, page, `cat > /home/boxed/sites/boxed.example/page.php`, ""); err != nil {
		return nil, err
	}
	if err := b.feed(ctx, b.script, page, barePHP, "bare.example"); err != nil {
		return nil, err
	}
	const startBare = "php-fpm8.2 -y /etc/php/bare.conf -D"
	endBare := `pkill -KILL -f "[p]hp-fpm: .*bare" || true; while pgrep -f "[p]hp-fpm: .*bare" >/dev/null; do sleep 0.01; done`

	say("the first request, in turn to an account at rest and to a bare PHP-FPM that is started for it")
	var ours, theirs, forked []time.Duration
	for range rounds + 1 {
		if _, err := b.ours.Exec(ctx, "sh", "-c",
			`pkill -KILL -u boxed; while pgrep -u boxed >/dev/null; do sleep 0.01; done`); err != nil {
			return nil, err
		}
		d, err := ask(ctx, http.DefaultClient, b.ours, "boxed.example")
		if err != nil {
			return nil, err
		}
		// What is killed when it has lived longer than that is not
		// taken for something that does not start.
		time.Sleep(2100 * time.Millisecond)
		ours = append(ours, d)
		if _, err := b.script.Exec(ctx, "sh", "-c", endBare); err != nil {
			return nil, err
		}
		begun := time.Now()
		if _, err := b.script.Exec(ctx, "sh", "-c", startBare); err != nil {
			return nil, err
		}
		entered := time.Now() // entering the server is no part of it
		if _, err := b.script.Exec(ctx, "true"); err != nil {
			return nil, err
		}
		entering := time.Since(entered)
		if _, err = ask(ctx, http.DefaultClient, b.script, "bare.example"); err != nil {
			return nil, err
		}
		theirs = append(theirs, time.Since(begun)-2*entering) // begun before the first and after the second
		if _, err := b.script.Exec(ctx, "sh", "-c", `pkill -KILL -f "[p]hp-fpm: pool bare"; sleep 0.1`); err != nil {
			return nil, err
		}
		if d, err = ask(ctx, http.DefaultClient, b.script, "bare.example"); err != nil {
			return nil, err
		}
		forked = append(forked, d)
	}
	first, bare := median(ours[1:]), median(theirs[1:])
	rows := []row{compare(fmt.Sprintf("first request to an account at rest; to a bare PHP-FPM started for it (a pool "+
		"of one that runs answers after %s)", ms(median(forked[1:]))), first, bare, func(r float64) bool {
		return r <= 2
	}, "at most 2")}

	say("warm requests, in turn")
	ours, theirs = nil, nil
	for range 600 {
		for _, side := range []struct {
			server *lab.Server
			domain string
			took   *[]time.Duration
		}{{b.ours, "boxed.example", &ours}, {b.script, "bare.example", &theirs}} {
			d, err := ask(ctx, http.DefaultClient, side.server, side.domain)
			if err != nil {
				return nil, err
			}
			*side.took = append(*side.took, d)
		}
	}
	warm := compare("a warm request; to a bare pool", median(ours[50:]), median(theirs[50:]),
		func(r float64) bool { return r <= 1.1 }, "at most 1.1")
	warm.ours, warm.theirs = us(median(ours[50:])), us(median(theirs[50:]))
	rows = append(rows, warm)

	say("a busy site, in turn")
	var mine, others float64
	for range 4 {
		n, err := busy(ctx, b.ours, "boxed.example")
		if err != nil {
			return nil, err
		}
		mine += n
		if n, err = busy(ctx, b.script, "bare.example"); err != nil {
			return nil, err
		}
		others += n
	}
	rows = append(rows, row{"requests per second of one busy site; of a bare pool", fmt.Sprintf("%.0f/s", mine/4),
		fmt.Sprintf("%.0f/s", others/4), fmt.Sprintf("%.2f", mine/others), "at least 0.95", mine/others >= 0.95})

	say("a site beside an account that takes all it can get")
	beside, err := b.beside(ctx)
	return append(rows, beside), err
}

// greed is what takes as much as it can get: processes that make others without end, and such that
// compute without end.
const greed = `(setsid sh -c "perl -e 'fork while 1'; for n in 1 2 3 4 5 6; do perl -e '1 while 1' & done; wait" \
	>/dev/null 2>&1 </dev/null &)`

// beside measures how long the slowest but 1 % of a site's visitors wait, quiet and beside an
// account that takes all it can get within half a processor.
func (b *bench) beside(ctx context.Context) (row, error) {
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "half", Limits: plans.Limits{
		plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1), plans.PHPWorkers: plans.Of(3),
		plans.CPU: plans.Of(50)}}, nil); err != nil {
		return row{}, err
	}
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "greedy.example", Plan: "half", Customer: "Bench",
		Server: "skua"}, &opening); err != nil {
		return row{}, err
	}
	if err := b.finished(ctx, opening.Operation); err != nil {
		return row{}, err
	}
	p99 := func() (time.Duration, error) {
		var took []time.Duration
		for begun := time.Now(); time.Since(begun) < 6*time.Second; time.Sleep(2 * time.Millisecond) {
			d, err := ask(ctx, http.DefaultClient, b.ours, "boxed.example")
			if err != nil {
				return 0, err
			}
			took = append(took, d)
		}
		slices.Sort(took)
		return took[len(took)*99/100], nil
	}
	if err := b.feed(ctx, b.ours, `<?php for ($n = 0; $n < 40000; $n++) $x = md5("$n"); echo "page ", $x;`,
		`cat > /home/boxed/sites/boxed.example/page.php`, ""); err != nil {
		return row{}, err
	}
	if _, err := p99(); err != nil { // warms up
		return row{}, err
	}
	quiet, err := p99()
	if err != nil {
		return row{}, err
	}
	if err := b.feed(ctx, b.ours, "", `victualler-sandbox enter greedy sh -c "$1" </dev/null >/dev/null 2>&1 & sleep 1`,
		greed+"; sleep 60"); err != nil {
		return row{}, err
	}
	loud, err := p99()
	if err != nil {
		return row{}, err
	}
	_, err = b.ours.Exec(ctx, "sh", "-c", "pkill -KILL -u greedy; true")
	return compare("p99 of a site's visitors beside an account that takes all it can get; without it", loud, quiet,
		func(r float64) bool { return r <= 2 }, "at most 2"), err
}

func us(d time.Duration) string { return fmt.Sprintf("%d µs", d.Microseconds()) }

// feed runs a script on a server with an input.
func (b *bench) feed(ctx context.Context, server *lab.Server, input, script, argument string) error {
	cmd := server.Command(ctx, "sh", "-c", script, "sh", argument)
	cmd.Stdin = strings.NewReader(input)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// ask asks for the page and returns how long the answer took.
func ask(ctx context.Context, client *http.Client, server *lab.Server, domain string) (time.Duration, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+server.Address.String()+"/page.php", nil)
	if err != nil {
		return 0, err
	}
	request.Host = domain
	begun := time.Now()
	response, err := client.Do(request)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil && !strings.HasPrefix(string(text), "page ") {
		err = errors.New(domain + ": " + response.Status)
	}
	return time.Since(begun), err
}

// busy asks for the page over some connections for a while and returns
// how many were answered in a second.
func busy(ctx context.Context, server *lab.Server, domain string) (float64, error) {
	const long = 3 * time.Second
	var n atomic.Int64
	var group sync.WaitGroup
	errs := make([]error, 6)
	begun := time.Now()
	for k := range errs {
		group.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			defer client.CloseIdleConnections()
			for time.Since(begun) < long {
				if _, err := ask(ctx, client, server, domain); err != nil {
					errs[k] = err
					return
				}
				n.Add(1)
			}
		})
	}
	group.Wait()
	return float64(n.Load()) / time.Since(begun).Seconds(), errors.Join(errs...)
}

// resting is the memory that the supervisor of sandboxes and its keeper take for the accounts on a
// server, in MiB: what is theirs alone, and their share of the program.
func (b *bench) resting(ctx context.Context) (int, error) {
	out, err := b.ours.Exec(ctx, "sh", "-c", `for p in $(pgrep -f '^[a-z/]*victualler-sandbox (run|keep|supervise)'); do
		grep ^Pss: /proc/$p/smaps_rollup; done`)
	if err != nil {
		return 0, err
	}
	kib := 0
	for line := range strings.Lines(out) {
		n := 0
		if _, err := fmt.Sscanf(line, "Pss: %d kB", &n); err == nil {
			kib += n
		}
	}
	return kib >> 10, nil
}
