package databases

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
)

const password = "kelp-Harbour-41-gannet"

// holding opens an account that may have databases, on a plan of its own.
func holding(t *testing.T, signIn, server string, limits plans.Limits) api.Account {
	t.Helper()
	limits[plans.Disk], limits[plans.Domains], limits[plans.PHPWorkers] = plans.Of(100*plans.MiB), plans.Of(1),
		plans.Of(3)
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "store-of-" + signIn,
		Limits: limits, Features: plans.Features{"databases": true}}, nil))
	return e2e.Opened(t, api.OpenAccount{Domain: signIn + ".example", SignInName: signIn, Plan: "store-of-" + signIn,
		Customer: "Tern Ferries", Server: server})
}

// stored adds a database with a user that may do everything with it, and waits until it is there.
func stored(t *testing.T, account api.Account, in api.NewDatabase) api.Database {
	t.Helper()
	in.Password = password
	var done api.DatabaseChanged
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), at(account)+"/databases", in, &done))
	require.Equal(t, "done", e2e.Watched(t, done.Operation).State)
	return done.Database
}

func at(account api.Account) string { return fmt.Sprintf("/accounts/%d", account.ID) }

func listed(t *testing.T, account api.Account) (list api.DatabaseList) {
	t.Helper()
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), at(account)+"/databases", nil, &list))
	return list
}

// page runs PHP in the account's sandbox, as a page of its site.
func page(t *testing.T, server string, account api.Account, code string) string {
	t.Helper()
	e2e.Write(t, account, "sites/"+account.Domain+"/page.php", "<?php\n"+code)
	_, body := e2e.Page(t, server, account.Domain, "/page.php")
	return body
}

// line is what connects from a site, with the password in its place.
func line(d api.Database) string {
	for _, l := range d.Connect {
		if strings.HasPrefix(l.Text, "new PDO") {
			return strings.Replace(l.Text, "'PASSWORD'", "'"+password+"'", 1)
		}
	}
	return "no line"
}

// A site uses databases of both engines by the lines that people are shown: on its own server, and
// from another one, with TLS.
func TestSiteUsesDatabases(t *testing.T) {
	e2e.Shared(t)
	for signIn, server := range map[string]string{"nearstore": "skua", "farstore": "fulmar"} {
		account := holding(t, signIn, server, plans.Limits{plans.Databases: plans.Of(2)})
		for _, engine := range []string{"mariadb", "postgresql"} {
			start := time.Now()
			d := stored(t, account, api.NewDatabase{Name: "of_" + engine, Engine: engine, User: engine[:5]})
			t.Logf("%s of %s, from call to receipt: %s", engine, signIn, time.Since(start))
			assert.Equal(t, "skua", map[bool]string{true: d.Server, false: "skua"}[signIn == "nearstore"])
			seen := page(t, server, account, "$d = "+line(d)+`
				$d->exec("CREATE TABLE words (id int PRIMARY KEY, text varchar(40))");
				$d->exec("INSERT INTO words VALUES (1, 'höchste Flut')");
				foreach ($d->query("SELECT text FROM words") as $r) echo $r[0];`)
			assert.Equal(t, "höchste Flut", seen)
		}
		list := listed(t, account)
		for _, e := range list.Engines {
			assert.Equal(t, signIn == "nearstore", e.Socket != "", e.Engine)
		}
	}
}

// What a user loses, its connections lose with it.
func TestRightsEndAtOnce(t *testing.T) {
	i := e2e.Shared(t)
	account := holding(t, "rightful", "skua", plans.Limits{plans.Databases: plans.Of(2)})
	for _, engine := range []string{"mariadb", "postgresql"} {
		d := stored(t, account, api.NewDatabase{Name: engine[:5], Engine: engine, User: "u" + engine[:5]})
		page(t, "skua", account, "$d = "+line(d)+`$d->exec("CREATE TABLE words (id int)");`)
		e2e.Write(t, account, "sites/"+account.Domain+"/waits.php", "<?php $d = "+line(d)+`
			for ($n = 0; $n < 200; $n++) {
				try { $d->exec("INSERT INTO words VALUES (1)"); } catch (Exception $e) { die("ended"); }
				usleep(50000);
			}
			echo "never ended";`)
		seen := make(chan string)
		go func() {
			_, body := e2e.Page(t, "skua", account.Domain, "/waits.php")
			seen <- body
		}()
		time.Sleep(time.Second)
		var done api.DatabaseUserChanged
		require.NoError(t, i.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
			Path: at(account) + "/database-users/u" + engine[:5],
			Body: api.DatabaseUserChange{Levels: []api.DatabaseLevel{{Database: d.Name, Level: "read"}}}}, &done))
		assert.Equal(t, "ended", <-seen, engine)
		e2e.Watched(t, done.Operation)
	}
}

// A site reaches the sockets of the engines, and nothing else of them.
func TestDatabasesFromASite(t *testing.T) {
	e2e.Shared(t)
	account := holding(t, "curious", "skua", plans.Limits{plans.Databases: plans.Of(2)})
	other := holding(t, "incurious", "skua", plans.Limits{plans.Databases: plans.Of(2)})
	for _, engine := range []string{"mariadb", "postgresql"} {
		stored(t, other, api.NewDatabase{Name: engine[:5], Engine: engine, User: engine[:5]})
		stored(t, account, api.NewDatabase{Name: engine[:5], Engine: engine, User: engine[:5]})
	}
	seen := page(t, "skua", account, `
		foreach (["/var/lib/mysql", "/var/lib/postgresql", "/etc/mysql", "/etc/postgresql", "/etc/victualler",
			"/var/log/mysql", "/var/log/postgresql"] as $path)
			if (@scandir($path)) echo "sees $path ", implode(" ", scandir($path)), "\n";
		foreach ([["root", ""], ["victualler", ""], ["incurious_maria", ""], ["curious_maria", "wrong"]] as [$user, $word])
			try { new PDO("mysql:host=localhost", $user, $word); echo "in as $user\n"; } catch (Exception $e) {}
		foreach (["postgres", "incurious_postg"] as $user)
			try { new PDO("pgsql:host=/run/postgresql;dbname=postgres", $user, ""); echo "in as $user\n"; }
			catch (Exception $e) {}
		foreach (["127.0.0.1", "skua"] as $host)
			try { new PDO("mysql:host=$host", "curious_maria", "`+password+`"); echo "in by $host\n"; }
			catch (Exception $e) {}
		foreach (glob("/run/*/*") as $path) if (@unlink($path)) echo "removed $path\n";
		echo "end";`)
	assert.Equal(t, "end", seen)
}

// Two hundred at once are there, each as it should be.
func TestManyAtOnce(t *testing.T) {
	i := e2e.Shared(t)
	const many = 200
	account := holding(t, "plenty", "skua", plans.Limits{plans.Databases: plans.Unlimited})
	start := time.Now()
	var group sync.WaitGroup
	slots := make(chan struct{}, 20)
	var failed atomic.Int64
	for n := range many {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if i.Client.Post(context.Background(), at(account)+"/databases", api.NewDatabase{
				Name: fmt.Sprintf("n%d", n), User: fmt.Sprintf("n%d", n), Password: password}, nil) != nil {
				failed.Add(1)
			}
		})
	}
	group.Wait()
	e2e.Settled(t)
	t.Logf("%d databases with users: %s", many, time.Since(start))
	assert.Zero(t, failed.Load())
	assert.Equal(t, "200\n200\n", e2e.On(t, "skua", "mariadb --batch --skip-column-names --execute \"SELECT count(*) "+
		"FROM information_schema.schemata WHERE schema_name LIKE 'plenty\\\\_%'; SELECT count(*) FROM mysql.user "+
		"WHERE user LIKE 'plenty\\\\_%'\""))
	assert.Equal(t, "200", strings.TrimSpace(fmt.Sprint(len(listed(t, account).Databases))))
	noDrift(t)
	e2e.CloseAccount(t, account)
}

// noDrift has the servers with databases compared with what is wanted, once their engines answer:
// sweeps change nothing about what differs.
func noDrift(t *testing.T) {
	t.Helper()
	for _, server := range []string{"skua", "petrel"} {
		var drift api.DriftList
		for end := time.Now().Add(time.Minute); ; time.Sleep(time.Second) {
			var started api.Started
			require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/servers/"+server+"/sweep", nil, &started))
			require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
			require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/servers/"+server+"/drift", nil, &drift))
			if len(drift.Drifts) == 0 || time.Now().After(end) {
				break
			}
		}
		assert.Empty(t, drift.Drifts)
	}
}

// Agent, service and engines are killed while databases and users come and go: what is wanted and
// what there is agree afterwards, and nothing is left over.
func TestKilledWhileChanging(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	accounts := []api.Account{holding(t, "mortal", "skua", plans.Limits{plans.Databases: plans.Unlimited}),
		holding(t, "mortals", "skua", plans.Limits{plans.Databases: plans.Unlimited})}
	stop := make(chan struct{})
	var group sync.WaitGroup
	var changes atomic.Int64
	for worker, account := range accounts {
		group.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				// Errors are expected: something is down now and then.
				name := fmt.Sprintf("w%dn%d", worker, n%8)
				engine := []string{"mariadb", "postgresql"}[n%2]
				var err error
				switch rand.IntN(4) {
				case 0, 1:
					err = i.Client.Post(ctx, at(account)+"/databases", api.NewDatabase{Name: name, Engine: engine,
						User:     name,
						Password: password}, nil)
				case 2:
					err = removed(ctx, at(account)+"/databases/"+name)
				default:
					err = removed(ctx, at(account)+"/database-users/"+name)
				}
				if err == nil {
					changes.Add(1)
				}
				time.Sleep(time.Duration(rand.IntN(150)) * time.Millisecond)
			}
		})
	}
	told := map[string]int{}
	for _, engine := range []string{"mariadb", "postgresql"} {
		name := "steady" + engine[:1]
		stored(t, accounts[0], api.NewDatabase{Name: name, Engine: engine, User: name})
		group.Go(func() { importing(t, accounts[0], name, stop, told) })
	}
	const kills = 50
	for n := range kills {
		time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
		switch n % 5 {
		case 0, 2:
			i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-f", "victualler-agent run")
		case 1:
			i.KillService()
			require.NoError(t, i.StartService(ctx))
		case 3:
			i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-x", "mariadbd")
		default:
			i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-o", "-x", "postgres")
		}
	}
	close(stop)
	group.Wait()
	t.Logf("%d changes during %d kills", changes.Load(), kills)
	assert.Positive(t, changes.Load())
	t.Logf("imports: %v", told)
	assert.NotZero(t, told["done"]+told["failed"])
	e2e.Settled(t)
	// What failed meanwhile is put right by the sweep.
	seen := ""
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(seen)
		}
	})
	labtest.Within(t, 4*time.Minute, func() bool { // sweeps begin each minute, and engines may be recovering
		for _, account := range accounts {
			var a api.AccountDetail
			if err := i.Client.Get(ctx, at(account), nil, &a); err != nil || a.State != "active" || !a.Applied {
				seen = fmt.Sprintf("%s: %v, %s, applied: %t, %+v", account.Name, err, a.State, a.Applied, a.Drift)
				return false
			}
		}
		var started api.Started
		if err := i.Client.Post(ctx, "/servers/skua/sweep", nil, &started); err != nil {
			seen = err.Error()
			return false
		}
		done := e2e.Watched(t, started.Operation)
		found := differing(t, accounts)
		seen = fmt.Sprintf("sweep %s: %+v", done.State, found)
		return done.State == "done" && len(found) == 0
	}, "the servers do not come to hold what is wanted")
	noDrift(t)
	for _, account := range accounts {
		list := listed(t, account)
		found := strings.Fields(e2e.On(t, "skua", "mariadb --batch --skip-column-names --execute \"SELECT "+
			"schema_name FROM "+
			"information_schema.schemata WHERE schema_name LIKE '"+account.SignInName+"\\\\_%'\"; psql "+
			"--host=/run/postgresql "+
			"--username=postgres --no-align --tuples-only --command \"SELECT datname FROM pg_database WHERE "+
			"datname LIKE '"+
			account.SignInName+"\\\\_%'\""))
		var names []string
		for _, d := range list.Databases {
			names = append(names, d.Name)
		}
		assert.ElementsMatch(t, names, found)
		e2e.CloseAccount(t, account)
	}
	assert.Empty(t, strings.TrimSpace(e2e.On(t, "skua", "mariadb --batch --skip-column-names --execute \"SELECT user, "+
		"host FROM mysql.user WHERE user LIKE 'mortal%'\"; psql --host=/run/postgresql --username=postgres "+
		"--no-align --tuples-only --command \"SELECT rolname FROM pg_roles WHERE rolname LIKE 'mortal%'\"")),
		"nobody is left")
}

var tellMu sync.Mutex

// importing imports a file into a database again and again. It is told of each that has not come to
// its end, and only of these.
func importing(t *testing.T, account api.Account, name string, stop chan struct{}, told map[string]int) {
	t.Helper()
	ctx, c := context.Background(), e2e.Inst.Client
	const rows = 200
	var text strings.Builder
	text.WriteString("DROP TABLE IF EXISTS words;\nCREATE TABLE words (id int);\n")
	for n := range rows {
		fmt.Fprintf(&text, "INSERT INTO words VALUES (%d);\n", n)
	}
	// sure tries until it is answered: something is down now and then.
	sure := func(do func() error) bool {
		for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			if do() == nil {
				return true
			}
		}
		return assert.Fail(t, "no answer for two minutes")
	}
	for {
		select {
		case <-stop:
			return
		default:
		}
		var one api.DatabaseImport
		path := at(account) + "/database-imports/"
		if c.Post(ctx, at(account)+"/databases/"+name+"/imports", api.NewImport{Name: "x.sql",
			Size: int64(text.Len())}, &one) != nil || c.Upload(ctx, path+one.ID+"/file?offset=0",
			[]byte(text.String())) != nil || c.Post(ctx, path+one.ID+"/start", api.StartImport{}, nil) != nil {
			var list api.ImportList // what is left of it would be in the way of the next one
			if c.Get(ctx, at(account)+"/database-imports", nil, &list) == nil {
				for _, left := range list.Imports {
					if left.State == "waiting" && strings.HasSuffix(left.Database, name) {
						_ = removed(ctx, path+left.ID)
					}
				}
			}
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if !sure(func() error {
			err := c.Get(ctx, path+one.ID, nil, &one)
			if err == nil && one.State == "running" {
				return errors.New("it is running")
			}
			return err
		}) {
			return
		}
		var counted api.StatementResult
		if one.State == "done" {
			if !sure(func() error {
				return c.Post(ctx, at(account)+"/databases/"+name+"/statements",
					api.NewStatement{Statement: "SELECT count(*) FROM words"}, &counted)
			}) {
				return
			}
			assert.Equal(t, fmt.Sprint(rows), *counted.Rows[0][0], "all of what is done is there")
		} else {
			assert.Equal(t, "failed", one.State)
			assert.NotEmpty(t, one.Failure)
		}
		tellMu.Lock()
		told[one.State]++
		tellMu.Unlock()
	}
}

func removed(ctx context.Context, path string) error {
	return e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: path}, nil)
}

// differing is what a server does not hold of accounts as it is wanted.
func differing(t *testing.T, accounts []api.Account) (found []api.Drift) {
	t.Helper()
	var list api.DriftList
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/servers/skua/drift", nil, &list))
	for _, d := range list.Drifts {
		if slices.ContainsFunc(accounts, func(a api.Account) bool { return a.SignInName == d.Account }) {
			found = append(found, d)
		}
	}
	return found
}
