package main

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	corekits "victualler/internal/hosting/kits"
	"victualler/internal/hosting/plans"
	"victualler/kits"
)

//go:embed databases.sh
var databaseScript string

const (
	// basesAtOnce are added at the same time.
	basesAtOnce = 200
	// dumpRows of a kilobyte are imported and exported.
	dumpRows = 100_000
	// importPart is how much of a file is sent at once, in bytes.
	importPart = 4 << 20
)

// databases measures databases, imports, exports and kits against the engines' own tools, on a
// server that is set up by the product as well: only what is done with it is done by hand.
func (b *bench) databases(ctx context.Context, say func(string), rounds int) ([]row, error) {
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "store", Limits: plans.Limits{
		plans.Disk: plans.Of(10 * plans.GiB), plans.Domains: plans.Of(1), plans.PHPWorkers: plans.Of(3),
		plans.Databases: plans.Unlimited, plans.DatabaseSize: plans.Unlimited},
		Features: plans.Features{"databases": true, "kits": true}}, nil); err != nil {
		return nil, err
	}
	if err := b.openWith(ctx, "store.example", "store"); err != nil {
		return nil, err
	}
	var rows []row
	for _, engine := range []string{"mariadb", "postgresql"} {
		say("databases of " + engine + " through the service and by hand, in turn")
		ours, theirs, err := b.addBases(ctx, engine, rounds)
		if err != nil {
			return nil, err
		}
		rows = append(rows, compare("database of "+engine+" with a user, from call to its first statement; the same "+
			"by hand", ours, theirs, func(r float64) bool { return r <= 1.5 }, "at most 1.5"))
		if engine != "mariadb" {
			continue
		}
		say(fmt.Sprintf("%d databases at once", basesAtOnce))
		all, err := b.addManyBases(ctx)
		if err != nil {
			return nil, err
		}
		rows = append(rows, compare(fmt.Sprintf("%d databases at once; one after the other by hand", basesAtOnce), all,
			basesAtOnce*theirs, func(r float64) bool { return r <= 0.5 }, "at most 0.5"))
	}
	for _, engine := range []string{"mariadb", "postgresql"} {
		moved, err := b.transfers(ctx, say, engine)
		if err != nil {
			return nil, err
		}
		rows = append(rows, moved...)
	}
	say("kits through the service and by hand, in turn")
	installed, err := b.kits(ctx, rounds)
	if err != nil {
		return nil, err
	}
	say(fmt.Sprintf("sizes of %d databases", basesMeasured)) // the last, as the account wants none of these
	sizes, err := b.sizes(ctx)
	return slices.Concat(rows, installed, sizes), err
}

func (b *bench) addBase(ctx context.Context, engine, name string) error {
	var done api.DatabaseChanged
	if err := b.Client.Post(ctx, "/accounts/store.example/databases", api.NewDatabase{Name: name, Engine: engine,
		User: name, Password: boxWord}, &done); err != nil {
		return err
	}
	return b.finished(ctx, done.Operation)
}

func (b *bench) addBases(ctx context.Context, engine string, rounds int) (ours, theirs time.Duration, err error) {
	verb, first := "database", `mariadb --user="$1" --password="$2" "$1" -e "SELECT 1"`
	if engine == "postgresql" {
		verb, first = engine, `PGPASSWORD=$2 psql -q -h /run/postgresql -U "$1" "$1" -c "SELECT 1"`
	}
	var mine, others []time.Duration
	for n := range rounds + 1 { // the first of each warms up
		begun := time.Now()
		name := fmt.Sprintf("%s%d", engine[:1], n)
		if err := b.addBase(ctx, engine, name); err != nil {
			return 0, 0, err
		}
		if out, err := b.ours.Exec(ctx, "sh", "-ec", first, "sh", "store_"+name, boxWord); err != nil {
			return 0, 0, fmt.Errorf("%w: %s", err, out)
		}
		mine = append(mine, time.Since(begun))
		begun = time.Now()
		if out, err := b.script.Exec(ctx, "sh", "-ec", databaseScript, "sh", verb, fmt.Sprintf("hand_%s%d", engine[:1],
			n),
			boxWord); err != nil {
			return 0, 0, fmt.Errorf("%w: %s", err, out)
		}
		others = append(others, time.Since(begun))
	}
	return median(mine[1:]), median(others[1:]), nil
}

func (b *bench) addManyBases(ctx context.Context) (time.Duration, error) {
	errs := make([]error, basesAtOnce)
	var group sync.WaitGroup
	begun := time.Now()
	for n := range basesAtOnce {
		group.Go(func() { errs[n] = b.addBase(ctx, "mariadb", fmt.Sprintf("many%d", n)) })
	}
	group.Wait()
	return time.Since(begun), errors.Join(errs...)
}

// basesMeasured is how many databases there are of MariaDB when sizes are measured, and every tenth
// as many of PostgreSQL: there, each takes 8 MB of the disk.
const basesMeasured = 5000

// manyBases makes databases with a table each that the agent takes for an account's. Its arguments
// are how many of each engine.
const manyBases = `
seq "$1" | awk '{ n = "store_sized" $1; print "CREATE DATABASE " n "; CREATE TABLE " n ".t (id int PRIMARY KEY);" }' |
    mariadb
mariadb -e "INSERT INTO victualler.owned (kind, name, account) SELECT 'database', schema_name,
    (SELECT min(account) FROM victualler.owned) FROM information_schema.schemata WHERE schema_name LIKE 'store\_sized%'"
seq "$2" | awk '{ print "CREATE DATABASE store_sized" $1 ";" }' | su postgres -s /bin/sh -c "psql -q postgres"
su postgres -s /bin/sh -c "psql -q postgres -c \"INSERT INTO victualler.owned (kind, name, account)
    SELECT 'database', datname, (SELECT min(account) FROM victualler.owned) FROM pg_database
    WHERE datname LIKE 'store_sized%'\""
`

// sizes has the sizes of many databases measured, and asks how long that took.
func (b *bench) sizes(ctx context.Context) ([]row, error) {
	if out, err := b.ours.Exec(ctx, "sh", "-ec", manyBases, "sh", strconv.Itoa(basesMeasured),
		strconv.Itoa(basesMeasured/10)); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	many := time.Now()
	var rows []row
	for end := many.Add(2 * time.Minute); len(rows) < 2; time.Sleep(500 * time.Millisecond) {
		if rows = nil; time.Now().After(end) {
			return nil, errors.New("sizes are not measured")
		}
		var list api.EngineList
		if err := b.Client.Get(ctx, "/database-engines", nil, &list); err != nil {
			return nil, err
		}
		for _, e := range list.Engines {
			n := map[string]int{"mariadb": basesMeasured, "postgresql": basesMeasured / 10}[e.Engine]
			// The first round after they were made has all of them to look at.
			if e.Server == "skua" && e.MeasuredAt != nil && e.MeasuredAt.After(many) && e.Measured >= n {
				rows = append(rows, row{fmt.Sprintf("sizes of %d databases of %s", e.Measured, e.Title),
					fmt.Sprintf("%.2f s", e.MeasuredIn), "", "", "at most 2 s", e.MeasuredIn <= 2})
			}
		}
	}
	return rows, nil
}

// tools are what an engine comes with for files of statements: what executes one, what writes one,
// and the name of that. A database's name comes behind.
var tools = map[string]struct{ load, dump, dumper string }{
	"mariadb":    {"mariadb ", "mariadb-dump --single-transaction ", "mariadb-dump"},
	"postgresql": {"runuser -u postgres -- psql -q ", "runuser -u postgres -- pg_dump ", "pg_dump"},
}

// transfers measures a file of statements in and out.
func (b *bench) transfers(ctx context.Context, say func(string), engine string) ([]row, error) {
	var text bytes.Buffer
	text.WriteString("CREATE TABLE boats (id int PRIMARY KEY, text varchar(1100));\n")
	for n := range dumpRows {
		if n%100 == 0 {
			text.WriteString("INSERT INTO boats VALUES ")
		}
		end := ","
		if n%100 == 99 {
			end = ";\n"
		}
		fmt.Fprintf(&text, "(%d,'%s')%s", n, strings.Repeat(fmt.Sprintf("boat %d ", n), 150)[:1000], end)
	}
	megabytes := float64(text.Len()) / 1e6
	perSecond := func(d time.Duration) string { return fmt.Sprintf("%.0f MB/s", megabytes/d.Seconds()) }
	say(fmt.Sprintf("%.0f MB into %s and out of it", megabytes, engine))
	line := func(what string, ours, theirs time.Duration) row {
		ratio := ours.Seconds() / theirs.Seconds()
		return row{what, perSecond(ours), perSecond(theirs), fmt.Sprintf("%.2f", ratio), "at most 1.2 of the time",
			ratio <= 1.2}
	}
	database, by := engine[:1]+"0", tools[engine]
	begun := time.Now()
	if err := b.importFile(ctx, database, text.Bytes()); err != nil {
		return nil, err
	}
	imported := time.Since(begun)
	cmd := b.script.Command(ctx, "sh", "-ec", by.load+"hand_"+database)
	cmd.Stdin = bytes.NewReader(text.Bytes())
	begun = time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	rows := []row{line("import, from the first byte sent to the last statement executed; "+engine, imported,
		time.Since(begun))}
	for _, form := range []struct{ compression, by string }{{"none", ""}, {"gzip", " | gzip -1"}, {"zstd", ""}} {
		var ours, theirs []time.Duration
		for range 7 {
			begun := time.Now()
			if err := b.Client.Download(ctx, "/accounts/store.example/databases/"+database+"/export",
				url.Values{"compression": {form.compression}}, io.Discard); err != nil {
				return nil, err
			}
			ours = append(ours, time.Since(begun))
			begun = time.Now()
			if out, err := b.script.Exec(ctx, "sh", "-ec", by.dump+"hand_"+database+form.by+" >/tmp/dump"); err != nil {
				return nil, fmt.Errorf("%w: %s", err, out)
			}
			theirs = append(theirs, time.Since(begun))
		}
		rows = append(rows, line("export ("+form.compression+"); "+by.dumper+strings.ReplaceAll(form.by, "|", "and"),
			median(ours), median(theirs)))
	}
	return rows, nil
}

// importFile sends a file and waits until all of it is executed.
func (b *bench) importFile(ctx context.Context, database string, text []byte) error {
	var one api.DatabaseImport
	if err := b.Client.Post(ctx, "/accounts/store.example/databases/"+database+"/imports",
		api.NewImport{Name: "boats.sql", Size: int64(len(text))}, &one); err != nil {
		return err
	}
	path := "/accounts/store.example/database-imports/" + one.ID
	for at := 0; at < len(text); at += importPart {
		if err := b.Client.Upload(ctx, fmt.Sprintf("%s/file?offset=%d", path, at),
			text[at:min(at+importPart, len(text))]); err != nil {
			return err
		}
	}
	if err := b.Client.Post(ctx, path+"/start", api.StartImport{}, nil); err != nil {
		return err
	}
	for {
		if err := b.Client.Get(ctx, path, nil, &one); err != nil {
			return err
		}
		switch one.State {
		case "done":
			return nil
		case "failed":
			return errors.New(one.Failure)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// kits measures a kit with a database against unpacking and setting it up by hand.
func (b *bench) kits(ctx context.Context, rounds int) ([]row, error) {
	dir, err := kits.Directory("guestbook")
	if err != nil {
		return nil, err
	}
	archive, err := corekits.Pack(dir)
	if err != nil {
		return nil, err
	}
	if _, err := b.Client.RegisterKit(ctx, archive, nil, nil); err != nil {
		return nil, err
	}
	if err := b.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/kits/guestbook",
		Body: api.KitChange{Plans: &[]string{"store"}}}, nil); err != nil {
		return nil, err
	}
	cmd := b.script.Command(ctx, "tee", "/tmp/kit.tar.gz")
	cmd.Stdin = bytes.NewReader(archive)
	if err := cmd.Run(); err != nil {
		return nil, err
	}
	var ours, theirs []time.Duration
	for n := range rounds + 1 {
		domain, name := fmt.Sprintf("book%d.example", n), fmt.Sprintf("hand%d", n)
		if err := b.openWith(ctx, domain, "store"); err != nil {
			return nil, err
		}
		if out, err := b.script.Exec(ctx, "sh", "-c", script, "sh", name, name+".example", fmt.Sprint(600000+n),
			b.script.Address.String()); err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		begun := time.Now()
		var started api.Started
		if err := b.Client.Post(ctx, "/accounts/"+domain+"/domains/"+domain+"/kit", api.NewSiteKit{Kit: "guestbook"},
			&started); err != nil {
			return nil, err
		}
		if err := b.finished(ctx, started.Operation); err != nil {
			return nil, err
		}
		ours = append(ours, time.Since(begun))
		begun = time.Now()
		if out, err := b.script.Exec(ctx, "sh", "-ec", databaseScript, "sh", "kit", "/tmp/kit.tar.gz", name, boxWord,
			b.script.Address.String()); err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		theirs = append(theirs, time.Since(begun))
	}
	return []row{compare("kit with a database, from call to verified answer; the same by hand", median(ours[1:]),
		median(theirs[1:]), func(r float64) bool { return r <= 1.3 }, "at most 1.3")}, nil
}
