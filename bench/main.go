// Command bench measures the whole installation against plain scripts that do
// the same system work on the same lab servers, in one run, and writes the
// ratios to docs/benchmarks.md: all of them, or the section of a part that has one.
//
//	go run ./bench [-out FILE] [-part servers|sandboxes|names|mail|databases|certificates|crowd|records|rollout]
package main

import (
	"context"
	_ "embed"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/installation"
)

//go:embed script.sh
var script string

func main() {
	lab.Hook()
	out := flag.String("out", "docs/benchmarks.md", "`file` for the table")
	rounds := flag.Int("rounds", 15, "single accounts opened each way")
	many := flag.Int("many", 50, "accounts opened at once")
	part := flag.String("part", "all",
		"what to measure: servers, sandboxes, names (DNS), mail, databases, certificates, crowd (many on "+
			"one server), records, rollout, or all; mail, databases, records and rollout have sections of their own, "+
			"the "+
			"others are "+
			"written down with all alone")
	flag.IntVar(&crowd, "crowd", crowd, "accounts that share one server")
	flag.Parse()
	// what was started is stopped
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *out, *part, *rounds, *many); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// bench is one run.
type bench struct {
	*installation.Installation
	// ours is the server of the product, script that of the script: both start
	// empty and grow alike, so neither meets the other's sites.
	ours, script *lab.Server
	next         int
}

// row is a line of the table.
type row struct {
	what, ours, theirs string
	ratio              string
	target             string
	met                bool
}

func run(ctx context.Context, out, part string, rounds, many int) error {
	say := func(text string) { fmt.Fprintln(os.Stderr, "· "+text) }
	if err := lab.InstallPackages(ctx, say, lab.MachinePackages...); err != nil {
		return err
	}
	b, end, err := begin(ctx, say, part == "databases")
	defer func() { end() }()
	if err != nil {
		return err
	}
	var onServers, inMail, stored, inRecords, rollingOut []row
	var explained string
	if part == "all" || part == "rollout" {
		if rollingOut, err = rolledOut(ctx, say); err != nil {
			return err
		}
	}
	if part == "all" || part == "servers" {
		if onServers, err = b.servers(ctx, say, rounds, many); err != nil {
			return err
		}
	}
	if part == "all" || part == "sandboxes" {
		boxed, err := b.sandboxes(ctx, say, rounds)
		if err != nil {
			return err
		}
		onServers = append(onServers, boxed...)
	}
	if part == "all" || part == "names" {
		named, err := b.nameService(ctx, say, rounds)
		if err != nil {
			return err
		}
		onServers = append(onServers, named...)
	}
	if part == "all" || part == "certificates" {
		lettered, err := b.certificates(ctx, say, rounds)
		if err != nil {
			return err
		}
		onServers = append(onServers, lettered...)
	}
	if part == "all" || part == "crowd" {
		inCrowd, err := b.crowded(ctx, say, rounds/3)
		if err != nil {
			return err
		}
		onServers = append(onServers, inCrowd...)
	}
	if part == "all" || part == "records" {
		if inRecords, explained, err = b.records(ctx, say); err != nil {
			return err
		}
	}
	if part == "all" || part == "mail" {
		if part == "all" { // on servers that hold nothing else, and that nothing else is measured on
			end()
			if b, end, err = begin(ctx, say, false); err != nil {
				return err
			}
		}
		if inMail, err = b.mail(ctx, say, rounds); err != nil {
			return err
		}
	}
	if part == "all" || part == "databases" {
		if part == "all" {
			end()
			if b, end, err = begin(ctx, say, true); err != nil {
				return err
			}
		}
		if stored, err = b.databases(ctx, say, rounds); err != nil {
			return err
		}
	}
	written := []section{
		{"", "Work on servers", "On lab servers alike; bench/script.sh is the script.", "plain script", onServers, ""},
		{"mail", "Mail", "On lab servers alike; bench/mail.sh is the script. Delivery is that of the same programs " +
			"without ours, with quota, index and filters, and without a spam filter on either side.", "without ours",
			inMail, ""},
		{"databases", "Databases and kits", "On lab servers alike, both with the engines as the product sets them " +
			"up; bench/databases.sh is what is done by hand.", "by hand", stored, ""},
		{"rollout", "Rolling out", "With agents that answer at once, so that the time is that of the service and " +
			"the database. The bare statements do the same to the records, over as many connections, and nothing else.",
			"bare SQL", rollingOut, ""},
		{"records", "Many records", fmt.Sprintf("With %d accounts, %d plans and %d resellers. The time of the "+
			"service is that of the whole call, from its client; that of the bare statement is PostgreSQL's answer "+
			"over the same kind of connection. Medians of %d, p99 beside them.", manyAccounts, manyPlans,
			manyResellers, lookAt), "bare SQL", inRecords,
			"\nThe indexes that the statements use (no plan reads all accounts or all domains):\n\n" + explained}}
	return write(out, part, written)
}

// begin starts an installation with two servers, which keep databases where engines are wanted; end
// ends it.
func begin(ctx context.Context, say func(string), engines bool) (b *bench, end func(), err error) {
	end = func() {}
	dir, err := os.MkdirTemp("", "victualler-bench-")
	if err != nil {
		return nil, end, err
	}
	end = func() { os.RemoveAll(dir) }
	base, err := lab.EnsureBase(ctx, lab.CacheDir(), say)
	if err != nil {
		return nil, end, err
	}
	subnet, err := lab.ReserveSubnet(ctx)
	if err != nil {
		return nil, end, err
	}
	programs, err := filepath.Abs("var/bin")
	if err != nil {
		return nil, end, err
	}
	roles := map[string][]string{"skua": {"web", "dns", "mail"}, "fulmar": {"web", "dns"}}
	if engines {
		roles = map[string][]string{"skua": {"web", "database"}, "fulmar": {"web", "database"}}
	}
	i, err := installation.Start(ctx, installation.Options{Dir: dir, Programs: programs, Say: say,
		Lab: lab.Options{Name: "bench", Base: base, Subnet: subnet}, Servers: []lab.ServerOptions{{Name: "skua",
			Host:       21,
			AgentFlags: []string{"-busy-site", fmt.Sprint(busySite), "-busy-round", busyRound.String()}},
			{Name: "fulmar", Host: 22, Services: []lab.Service{{Name: "php-fpm", Keep: true,
				Argv: []string{"sh", "-c", "mkdir -p /run/php && exec php-fpm8.2 -F"}}}}},
		Roles: roles})
	if err != nil {
		return nil, end, err
	}
	end = sync.OnceFunc(func() {
		i.Stop()
		os.RemoveAll(dir)
	})
	b = &bench{Installation: i, ours: i.Servers["skua"], script: i.Servers["fulmar"]}
	limits := plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1),
		plans.PHPWorkers: plans.Of(3)}
	if err := i.Client.Post(ctx, "/plans", api.NewPlan{Name: "bench", Limits: limits}, nil); err != nil {
		return nil, end, err
	}
	return b, end, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "Bench"}, nil)
}

// servers measures work on servers against the script.
func (b *bench) servers(ctx context.Context, say func(string), rounds, many int) ([]row, error) {
	say("one account, in turn by the product and by the script")
	var ours, theirs []time.Duration
	for range rounds + 1 { // the first of each warms up
		d, err := b.openOne(ctx)
		if err != nil {
			return nil, err
		}
		ours = append(ours, d)
		if d, err = b.scriptOne(ctx); err != nil {
			return nil, err
		}
		theirs = append(theirs, d)
	}
	one, oneScript := median(ours[1:]), median(theirs[1:])
	rows := []row{compare("one account, from call to verified answer", one, oneScript, func(r float64) bool {
		return r <= 1.1
	}, "at most 1.1")}

	say(fmt.Sprintf("%d accounts at once", many))
	before, err := b.reloads(ctx)
	if err != nil {
		return nil, err
	}
	all, err := b.openMany(ctx, many)
	if err != nil {
		return nil, err
	}
	after, err := b.reloads(ctx)
	if err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%d accounts by the script in a loop", many))
	loop := time.Now()
	for range many {
		if _, err := b.scriptOne(ctx); err != nil {
			return nil, err
		}
	}
	looped := time.Since(loop)
	rows = append(rows, compare(fmt.Sprintf("%d accounts at once; the script in a loop", many), all, looped,
		func(r float64) bool {
			return r <= 0.15
		}, "at most 0.15"))
	rows = append(rows, row{fmt.Sprintf("reloads of nginx for those %d", many), fmt.Sprint(after - before),
		fmt.Sprint(many),
		fmt.Sprintf("%.2f", float64(after-before)/float64(many)), "clearly below 1", after-before < int64(many)/2})

	used, err := b.memory()
	return append(rows, used...), err
}

// memory is what service and agent use just now.
func (b *bench) memory() ([]row, error) {
	service, err := residentMiB(fmt.Sprintf("/proc/%d/status", b.ServicePID()), nil)
	if err != nil {
		return nil, err
	}
	agent, err := residentMiB("", b.ours)
	return []row{{"memory of the service after that", fmt.Sprintf("%d MiB", service), "", "", "below 150 MB",
		service < 143},
		{"memory of the agent after that", fmt.Sprintf("%d MiB", agent), "", "", "below 40 MB", agent < 38}}, err
}

func compare(what string, ours, theirs time.Duration, met func(float64) bool, target string) row {
	ratio := float64(ours) / float64(theirs)
	return row{what, ms(ours), ms(theirs), fmt.Sprintf("%.2f", ratio), target, met(ratio)}
}

func ms(d time.Duration) string { return fmt.Sprintf("%d ms", d.Milliseconds()) }

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// section is a part of the document, with a table.
type section struct {
	// part is what has a section of its own; empty where several parts share one, which is written
	// with all of them alone.
	part         string
	title, about string
	// other is what is compared with.
	other string
	rows  []row
	// after stands below the table.
	after string
}

func (s section) text() string {
	var text strings.Builder
	fmt.Fprintf(&text, "## %s\n\n%s Measured on %s.\n\n", s.title, s.about, time.Now().UTC().Format(time.DateOnly))
	table(&text, s.other, s.rows)
	return text.String() + s.after
}

// write writes all sections into a file, or those of a part, beside the others that are there.
func write(path, part string, sections []section) error {
	before, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	kept := map[string]string{}
	for one := range strings.SplitSeq("\n"+string(before), "\n## ") {
		title, _, _ := strings.Cut(one, "\n")
		kept[title] = "## " + strings.TrimSuffix(one, "\n") + "\n"
	}
	text := fmt.Sprintf("# Benchmarks\n\nWritten by `make bench`, on %d processors. Both columns of a table are of "+
		"the same run. Times on other machines differ; the ratios are what counts.\n", runtime.NumCPU())
	for _, s := range sections {
		switch {
		case part == "all" || part == s.part:
			fmt.Print(s.text())
			kept[s.title] = s.text()
		case len(s.rows) > 0:
			table(os.Stdout, s.other, s.rows)
			return nil
		}
		text += "\n" + kept[s.title]
	}
	return os.WriteFile(path, []byte(text), 0o644)
}

func table(out io.Writer, other string, rows []row) {
	fmt.Fprintf(out, "| what | Victualler | %s | ratio | wanted | met |\n|---|---|---|---|---|---|\n", other)
	for _, r := range rows {
		met := map[bool]string{true: "yes", false: "no"}[r.met]
		if r.target == "" {
			met = ""
		}
		fmt.Fprintf(out, "| %s | %s | %s | %s | %s | %s |\n", r.what, r.ours, r.theirs, r.ratio, r.target, met)
	}
}

func (b *bench) openOne(ctx context.Context) (time.Duration, error) {
	b.next++
	begun := time.Now()
	err := b.open(ctx, fmt.Sprintf("ours%d.example", b.next))
	return time.Since(begun), err
}

func (b *bench) open(ctx context.Context, domain string) error {
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: domain, Plan: "bench", Customer: "Bench",
		Server: "skua"}, &opening); err != nil {
		return err
	}
	return b.finished(ctx, opening.Operation)
}

// finished waits for the end of an operation; one that fails is an error.
func (b *bench) finished(ctx context.Context, operation int64) error {
	o, err := b.Client.Watch(ctx, operation, func(api.Operation) {})
	if err == nil && o.State != "done" {
		err = errors.New(o.Failure)
	}
	return err
}

func (b *bench) openMany(ctx context.Context, n int) (time.Duration, error) {
	errs := make([]error, n)
	var group sync.WaitGroup
	begun := time.Now()
	for k := range n {
		group.Go(func() { errs[k] = b.open(ctx, fmt.Sprintf("many%d.example", k)) })
	}
	group.Wait()
	return time.Since(begun), errors.Join(errs...)
}

func (b *bench) scriptOne(ctx context.Context) (time.Duration, error) {
	b.next++
	name := fmt.Sprintf("script%d", b.next)
	begun := time.Now()
	_, err := b.script.Exec(ctx, "sh", "-c", script, "sh", name, name+".example", fmt.Sprint(500000+b.next),
		b.script.Address.String())
	return time.Since(begun), err
}

func (b *bench) reloads(ctx context.Context) (int64, error) {
	asked := time.Now()
	for {
		var s api.Server
		if err := b.Client.Get(ctx, "/servers/skua", nil, &s); err != nil {
			return 0, err
		}
		if s.SeenAt.After(asked) {
			for _, p := range s.Health.Programs {
				if p.Name == "nginx" {
					return p.Reloads, nil
				}
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// residentMiB reads a process's resident memory (proc(5)), here or on a server.
func residentMiB(path string, server *lab.Server) (int, error) {
	var text []byte
	var err error
	if server == nil {
		text, err = os.ReadFile(path)
	} else {
		var out string
		out, err = server.Exec(context.Background(), "sh", "-c",
			`cat "/proc/$(pgrep -f "victualler-agent .*run" | head -1)/status"`)
		text = []byte(out)
	}
	if err != nil {
		return 0, err
	}
	_, rest, found := strings.Cut(string(text), "VmRSS:")
	var kib int
	if _, err := fmt.Sscan(rest, &kib); !found || err != nil {
		return 0, fmt.Errorf("no VmRSS in %s", path)
	}
	return kib >> 10, nil
}
