package kits_test

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	service "victualler/internal/service/kits"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// harbour is a bench with an account gangway.example whose plan offers the kit board.
type harbour struct {
	*servicetest.Bench
	t     *testing.T
	owner usecase.Actor
	agent *servicetest.Agent
}

const at = "gangway.example"

func newHarbour(t *testing.T) harbour {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua", "web", "database")
	b.Agents.On(1).Set(func(a *servicetest.Agent) {
		a.Health.Programs = append(a.Health.Programs, agentlink.ProgramStatus{Name: "mariadb", Running: true})
		a.Health.Sandboxes = &agentlink.Sandboxes{PHP: []string{"8.2"}}
	})
	require.NoError(t, b.Fleet.PollServers(t.Context()))
	b.Plan("quay", plans.Limits{plans.Databases: plans.Of(3)}, "databases", "kits")
	h := harbour{Bench: b, t: t, owner: b.Customer("Tern Ferries", ""), agent: b.Agents.On(1)}
	b.Account(b.Operator, api.OpenAccount{Domain: at, Plan: "quay", Customer: "Tern Ferries", Server: "skua"})
	h.register("1.0", map[string]string{"index.php": "one", "style.css": "blue",
		"set.php": "{{php database_password}}" +
			" {{php title}} {{php key}}{{line phrase}}"})
	_, err := b.Kits.ChangeKit(t.Context(), b.Operator, "board", api.KitChange{Plans: &[]string{"quay"}})
	require.NoError(t, err)
	return h
}

// document is that of the kit board.
func document(version string, more ...string) string {
	return fmt.Sprintf(`{"layout": 1, "name": "board", "version": %q, "title": "Board", "about": "A board.",
		"needs": {"php": "8.1", "database": "mariadb"}, "templates": ["set.php"], "keeps": ["uploads"],
		"asks": [{"name": "title", "title": "Title", "kind": "line", "default": "Board"},
			{"name": "phrase", "title": "Phrase", "kind": "secret", "optional": true}],
		"secrets": [{"name": "key", "length": 20}], "site": {"front_script": "index.php"},
		"check": {"path": "/"}%s}`, version, strings.Join(more, ""))
}

func archive(t *testing.T, document string, files map[string]string) []byte {
	t.Helper()
	dir := fstest.MapFS{"kit.json": {Data: []byte(document)}}
	for name, text := range files {
		dir["files/"+name] = &fstest.MapFile{Data: []byte(text)}
	}
	out, err := kits.Pack(dir)
	require.NoError(t, err)
	return out
}

func (h harbour) register(version string, files map[string]string, more ...string) {
	h.t.Helper()
	h.registerThat(document(version, more...), version, files)
}

func (h harbour) registerThat(document, version string, files map[string]string) {
	h.t.Helper()
	_, err := h.registered(archive(h.t, document, files), "")
	require.NoError(h.t, err)
}

func (h harbour) registered(archive []byte, signature string) (api.Kit, error) {
	return h.Kits.Register(h.t.Context(), h.Operator, fmt.Sprintf("%x", sha256.Sum256(archive)), archive, signature)
}

// ended does all that is to be done, and returns how an operation has ended.
func (h harbour) ended(started api.Started, err error) api.Operation {
	h.t.Helper()
	require.NoError(h.t, err)
	h.Work()
	o, err := h.Rollout.Operation(h.t.Context(), h.Operator, started.Operation)
	require.NoError(h.t, err)
	return o
}

func (h harbour) installs(in api.NewSiteKit) api.Operation {
	h.t.Helper()
	in.Kit = "board"
	started, err := h.Kits.Install(h.t.Context(), h.owner, at, at, in)
	return h.ended(started, err)
}

func (h harbour) site() *servicetest.Site { return h.agent.Site(at) }

// kitsOf is what the account has.
func (h harbour) kits() api.AccountKits {
	h.t.Helper()
	out, err := h.Kits.AccountKits(h.t.Context(), h.owner, at)
	require.NoError(h.t, err)
	return out
}

// databases are the account's, in the records and on the server.
func (h harbour) databases() []string {
	h.t.Helper()
	list, err := h.Databases.Databases(h.t.Context(), h.owner, at)
	require.NoError(h.t, err)
	var names []string
	for _, d := range list.Databases {
		names = append(names, d.Name)
	}
	var there []string
	h.agent.Set(func(a *servicetest.Agent) {
		for _, m := range a.Accounts {
			if m.Databases != nil {
				for _, d := range m.Databases.Databases {
					there = append(there, d.Name)
				}
			}
		}
	})
	assert.Equal(h.t, names, there, "the server has what the records say")
	return names
}

// setting is the front script of the site.
func (h harbour) frontScript() any {
	h.t.Helper()
	d, err := h.Domains.Domain(h.t.Context(), h.owner, at, at)
	require.NoError(h.t, err)
	i := slices.IndexFunc(d.Settings, func(s api.Setting) bool { return s.Key == "front_script" })
	return d.Settings[i].Value
}

// empty asserts that nothing of a kit is left.
func (h harbour) empty() {
	h.t.Helper()
	assert.Empty(h.t, h.kits().Sites)
	assert.Empty(h.t, h.databases())
	assert.Equal(h.t, "", h.frontScript())
	assert.Empty(h.t, h.site().Files)
	assert.Nil(h.t, h.site().Staged)
	assert.Nil(h.t, h.site().Before)
}

func TestInstallAndRemove(t *testing.T) {
	h := newHarbour(t)
	offered := h.kits().Kits
	require.Len(t, offered, 1)
	assert.Empty(t, offered[0].Missing)
	p := h.Preview(h.owner, func(a usecase.Actor) error {
		_, err := h.Kits.Install(t.Context(), a, at, at, api.NewSiteKit{Kit: "board"})
		return err
	})
	assert.Contains(t, p.Notes, "it gets the MariaDB database gangway_board")
	h.empty()

	o := h.installs(api.NewSiteKit{Answers: map[string]string{"title": "Ann's", "phrase": "wet tuesday"}})
	require.Equal(t, "done", o.State, o.Failure)
	one := h.kits().Sites[0]
	assert.Equal(t, map[string]string{"title": "Ann's"}, one.Answers, "a secret is shown to nobody")
	assert.Equal(t, "installed", one.State)
	assert.Equal(t, "gangway_board", one.Database)
	assert.Equal(t, "index.php", h.frontScript())
	assert.Equal(t, []string{"gangway_board"}, h.databases())
	assert.Regexp(t, `^'[A-Za-z0-9]{24}' 'Ann\\'s' '[A-Za-z0-9]{20}'wet tuesday$`, h.site().Files["set.php"])
	assert.Nil(t, h.site().Before, "nothing is left beside the site")

	_, err := h.Kits.Install(t.Context(), h.owner, at, at, api.NewSiteKit{Kit: "board"})
	servicetest.Refused(t, refusal.InUse, err)
	servicetest.Refused(t, refusal.InUse, h.Kits.RemoveKit(t.Context(), h.Operator, "board", "1.0"))
	_, err = h.Kits.Remove(t.Context(), h.owner, at, at, false)
	r := servicetest.Refused(t, refusal.NeedsDecision, err)
	assert.Contains(t, r.Detail, "gangway_board")
	o = h.ended(h.Kits.Remove(t.Context(), h.owner, at, at, true))
	require.Equal(t, "done", o.State, o.Failure)
	h.empty()
	assert.Contains(t, h.Events(at)[0], "kit.remove")
	require.NoError(t, h.Kits.RemoveKit(t.Context(), h.Operator, "board", "1.0"))
	assert.Empty(t, h.kits().Kits)
}

func TestRefusedInstalls(t *testing.T) {
	h := newHarbour(t)
	h.Plan("bare", nil, "kits")
	h.Account(h.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Tern Ferries",
		Server: "skua"})
	_, err := h.Kits.ChangeKit(t.Context(), h.Operator, "board", api.KitChange{Plans: &[]string{"quay", "bare"}})
	require.NoError(t, err)
	h.site().Files["old.html"] = "old"
	for name, c := range map[string]struct {
		domain string
		in     api.NewSiteKit
		kind   refusal.Kind
		says   string
	}{
		"files":       {at, api.NewSiteKit{Kit: "board"}, refusal.NeedsDecision, "old.html"},
		"another kit": {at, api.NewSiteKit{Kit: "boat", Replace: true}, refusal.NotFound, "offered no kit"},
		"another version": {at, api.NewSiteKit{Kit: "board", Version: "3", Replace: true}, refusal.NotFound,
			"there are 1.0"},
		"wrong answer": {at, api.NewSiteKit{Kit: "board", Replace: true, Answers: map[string]string{"titel": "x"}},
			refusal.InvalidInput, "answers"},
		"no databases": {"bare.example", api.NewSiteKit{Kit: "board"}, refusal.NotAllowed, "databases"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := h.Kits.Install(t.Context(), h.owner, c.domain, c.domain, c.in)
			assert.Contains(t, servicetest.Refused(t, c.kind, err).Detail, c.says)
		})
	}
	o := h.installs(api.NewSiteKit{Replace: true})
	require.Equal(t, "done", o.State, o.Failure)
	assert.NotContains(t, h.site().Files, "old.html")
}

// What fails at any point leaves the site as it was.
func TestFailedInstalls(t *testing.T) {
	for _, c := range []struct{ what, says string }{{"extension", "PHP has no extension cobol here"}, {"files stage",
		"no room"}, {"run php setup.php", "no room"},
		{"run php fails", "no such table"}, {"files place", "no room"}, {"check", "answers with status 500"}} {
		t.Run(c.what, func(t *testing.T) {
			h := newHarbour(t)
			files := map[string]string{"index.php": "two", "set.php": ""}
			last, needs := "done", ""
			switch c.what {
			case "check":
				files["broken"] = ""
			case "extension":
				needs = `, "extensions": ["cobol"]`
			case "run php fails":
				last = "fails"
			default:
				h.agent.Set(func(a *servicetest.Agent) {
					a.KitFault = func(what string) error {
						if what == c.what {
							return errors.New("no room")
						}
						return nil
					}
				})
			}
			h.registerThat(strings.Replace(document("1.1", `, "steps": [{"title": "make tables", "run": ["php",
				"setup.php"]}, {"title": "fill tables", "run": ["php", "`+last+`"]}]`), `"php": "8.1"`,
				`"php": "8.1"`+needs, 1), "1.1", files)
			h.site().Files["old.html"] = "old"
			o := h.installs(api.NewSiteKit{Replace: true})
			assert.Equal(t, "failed", o.State)
			assert.Contains(t, o.Failure, c.says)
			assert.Equal(t, map[string]string{"old.html": "old"}, h.site().Files)
			delete(h.site().Files, "old.html")
			h.empty()
			h.agent.Set(func(a *servicetest.Agent) { a.KitFault = nil })
			o = h.installs(api.NewSiteKit{Version: "1.0"})
			assert.Equal(t, "done", o.State, o.Failure)
		})
	}
}

// A step that was cut off is not run twice: all is undone.
func TestInterruptedStep(t *testing.T) {
	h := newHarbour(t)
	h.register("1.1", map[string]string{"index.php": "two", "set.php": ""},
		`, "steps": [{"title": "make tables", "run": ["php", "setup.php"]}]`)
	cut, stop := context.WithCancel(t.Context())
	h.agent.Set(func(a *servicetest.Agent) {
		a.KitFault = func(what string) error {
			if strings.HasPrefix(what, "run") {
				stop() // the process of the service is killed
				return cut.Err()
			}
			return nil
		}
	})
	started, err := h.Kits.Install(t.Context(), h.owner, at, at, api.NewSiteKit{Kit: "board"})
	require.NoError(t, err)
	for range 10 {
		for _, j := range h.Queue.Drain() {
			if j.Kind == "Apply" {
				require.NoError(t, h.Rollout.Apply(t.Context(), j.ID))
			} else if _, err := h.Kits.Work(cut, j.ID); err == nil {
				require.NoError(t, h.Queue.Kit(t.Context(), store.Tx{}, j.ID))
			}
		}
	}
	require.Error(t, cut.Err())
	o, err := h.Rollout.Operation(t.Context(), h.Operator, started.Operation)
	require.NoError(t, err)
	require.NotEqual(t, "failed", o.State, "it is cut off")
	h.agent.Set(func(a *servicetest.Agent) { a.KitFault = nil })
	h.Pass(time.Minute) // by when somebody notices
	require.NoError(t, h.Kits.Resume(t.Context()))
	o = h.ended(started, nil)
	assert.Equal(t, "failed", o.State)
	assert.Contains(t, o.Failure, "interrupted while the step “make tables” ran")
	assert.Len(t, h.site().Run, 1)
	h.empty()
}

// What cannot be put back any more does not keep the operation open for ever.
func TestUndoneAsFarAsPossible(t *testing.T) {
	h := newHarbour(t)
	h.agent.Set(func(a *servicetest.Agent) {
		a.KitFault = func(what string) error {
			if what == "files place" || what == "files restore" {
				return errors.New("it is a redirect by now")
			}
			return nil
		}
	})
	started, err := h.Kits.Install(t.Context(), h.owner, at, at, api.NewSiteKit{Kit: "board"})
	o := h.ended(started, err)
	assert.Equal(t, "undoing", h.kits().Sites[0].State)
	require.NotEqual(t, "failed", o.State, "it is tried for a while")
	h.Pass(21 * time.Minute)
	require.NoError(t, h.Kits.Resume(t.Context()))
	o = h.ended(started, nil)
	assert.Equal(t, "failed", o.State)
	assert.Contains(t, o.Failure, "it is a redirect by now")
	assert.Empty(t, h.kits().Sites)
	assert.Empty(t, h.databases())
}

func TestUpdate(t *testing.T) {
	h := newHarbour(t)
	o := h.installs(api.NewSiteKit{})
	require.Equal(t, "done", o.State, o.Failure)
	settings := h.site().Files["set.php"]
	h.site().Files["style.css"] = "red"
	h.site().Files["uploads/a.jpg"] = "picture"
	h.register("1.1", map[string]string{"index.php": "two", "style.css": "green", "more.php": "more",
		"set.php": "{{php database_password}} {{php title}} {{php key}}{{line phrase}}"})
	assert.Equal(t, "1.1", h.kits().Sites[0].Newer)
	plan, err := h.Kits.PlanUpdate(t.Context(), h.owner, at, at, api.SiteKitUpdate{})
	require.NoError(t, err)
	assert.Equal(t, []api.KitFileChange{{Path: "index.php", Action: "replace"}, {Path: "more.php", Action: "add"},
		{Path: "style.css", Action: "conflict"}}, plan.Files)
	_, err = h.Kits.Update(t.Context(), h.owner, at, at, api.SiteKitUpdate{})
	assert.Contains(t, servicetest.Refused(t, refusal.NeedsDecision, err).Detail, "style.css")

	// One that does not work is undone: files, database, settings, version.
	h.register("1.2", map[string]string{"index.php": "three", "broken": "", "set.php": ""})
	before := maps.Clone(h.site().Files)
	started, err := h.Kits.Update(t.Context(), h.owner, at, at, api.SiteKitUpdate{KeepOthers: true})
	o = h.ended(started, err)
	assert.Equal(t, "failed", o.State)
	assert.Contains(t, o.Failure, "answers with status 500")
	assert.Equal(t, before, h.site().Files)
	assert.Equal(t, "1.0", h.kits().Sites[0].Version)
	assert.Equal(t, "installed", h.kits().Sites[0].State)
	h.agent.Set(func(a *servicetest.Agent) {
		saved := a.Imported[0]
		assert.True(t, saved.Empty && saved.State == agentlink.ImportDone, "the database is as it was saved")
		a.Imported = nil
	})

	started, err = h.Kits.Update(t.Context(), h.owner, at, at, api.SiteKitUpdate{Version: "1.1", KeepOthers: true})
	o = h.ended(started, err)
	require.Equal(t, "done", o.State, o.Failure)
	assert.Equal(t, map[string]string{"index.php": "two", "more.php": "more", "set.php": settings, "style.css": "red",
		"uploads/a.jpg": "picture"}, h.site().Files)
	assert.Equal(t, "1.1", h.kits().Sites[0].Version)

	// Another password, in the database and in the file that has it.
	started, err = h.Kits.Update(t.Context(), h.owner, at, at, api.SiteKitUpdate{NewPassword: true})
	o = h.ended(started, err)
	require.Equal(t, "done", o.State, o.Failure)
	now := h.site().Files["set.php"]
	assert.NotEqual(t, settings, now)
	assert.Equal(t, settings[26:], now[26:], "only the password is another one")
	assert.Equal(t, "1.1", h.kits().Sites[0].Version)
	_, err = h.Kits.Update(t.Context(), h.owner, at, at, api.SiteKitUpdate{Version: "1.0"})
	assert.Contains(t, servicetest.Refused(t, refusal.InvalidInput, err).Detail, "older than 1.1")
}

// Steps wait for the database alone, on whichever server that is; the rest of the site's waits for
// all that servers are told.
func TestStepsBeginWithTheDatabase(t *testing.T) {
	defer service.WatchLonger()()
	for _, engine := range []string{"mariadb", "postgresql"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t)
			h.Server("petrel", "database")
			petrel := h.Agents.On(2)
			petrel.Set(func(a *servicetest.Agent) {
				a.Health.Programs = append(a.Health.Programs, agentlink.ProgramStatus{Name: "postgresql",
					Running: true})
			})
			require.NoError(t, h.Fleet.PollServers(t.Context()))
			_, err := h.Databases.AddDatabase(t.Context(), h.owner, at, api.NewDatabase{Name: "own",
				Engine: "postgresql"})
			require.NoError(t, err)
			h.Work()
			h.registerThat(strings.Replace(document("1.1", `, "steps": [{"title": "make tables", "run": ["php",
				"setup.php"]}]`), `"mariadb"`, `"`+engine+`"`, 1), "1.1", map[string]string{"set.php": "", "setup.php": ""})
			begin, end := make(chan struct{}), make(chan struct{})
			held := map[string]*servicetest.Agent{"mariadb": h.agent, "postgresql": petrel}[engine]
			held.Set(func(a *servicetest.Agent) {
				a.Hold = func(next string) { <-map[string]chan struct{}{"databases": begin, "end": end}[next] }
			})
			if held != h.agent { // slow enough for whoever waits for a step to be there
				h.agent.Set(func(a *servicetest.Agent) { a.Hold = func(string) { time.Sleep(70 * time.Millisecond) } })
			}
			_, err = h.Databases.AddDatabase(t.Context(), h.owner, at, api.NewDatabase{Name: "more", Engine: "mariadb"})
			require.NoError(t, err)
			h.Queue.Drain() // whichever job comes first tells the servers all
			started, err := h.Kits.Install(t.Context(), h.owner, at, at, api.NewSiteKit{Kit: "board"})
			require.NoError(t, err)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			go h.Run(ctx)
			installed := make(chan struct{})
			var work sync.WaitGroup
			for _, j := range h.Queue.Drain() {
				if j.Kind == "Apply" {
					work.Go(func() { assert.NoError(t, h.Rollout.Apply(ctx, j.ID)) })
					continue
				}
				work.Go(func() {
					defer close(installed)
					for again := time.Duration(1); again > 0 && ctx.Err() == nil; {
						var err error
						again, err = h.Kits.Work(ctx, j.ID)
						assert.NoError(t, err)
					}
				})
			}
			work.Go(func() { // the site's settings, later
				for {
					select {
					case <-installed:
						return
					case <-time.After(5 * time.Millisecond):
					}
					for _, j := range h.Queue.Drain() {
						assert.NoError(t, h.Rollout.Apply(ctx, j.ID))
					}
				}
			})
			run := func() (n int) {
				h.agent.Set(func(*servicetest.Agent) { n = len(h.site().Run) })
				return n
			}
			time.Sleep(300 * time.Millisecond) // long enough for a step to begin, if nothing kept it
			assert.Zero(t, run(), "there is no database yet")
			close(begin)
			if engine == "mariadb" {
				assert.Eventually(t, func() bool { return run() == 1 }, 10*time.Second, time.Millisecond)
			} else {
				time.Sleep(100 * time.Millisecond)
				assert.Zero(t, run())
			}
			var placed bool
			h.agent.Set(func(*servicetest.Agent) { placed = len(h.site().Files) > 0 })
			assert.False(t, placed)
			close(end)
			work.Wait()
			assert.Equal(t, "done", h.ended(started, nil).State)
			assert.Equal(t, 1, run())
		})
	}
}

// A domain goes with its kit, whose database stays; not while work with the kit is under way.
func TestDomainRemoved(t *testing.T) {
	h := newHarbour(t)
	const second = "second.example"
	_, err := h.Domains.AddDomain(t.Context(), h.owner, at, api.NewDomain{Domain: second})
	require.NoError(t, err)
	h.Work()
	started, err := h.Kits.Install(t.Context(), h.owner, at, second, api.NewSiteKit{Kit: "board"})
	require.NoError(t, err)
	_, err = h.Domains.RemoveDomain(t.Context(), h.Operator, at, second)
	servicetest.Refused(t, refusal.WrongState, err)
	require.Equal(t, "done", h.ended(started, nil).State)
	preview := h.Preview(h.owner, func(a usecase.Actor) error {
		_, err := h.Domains.RemoveDomain(t.Context(), a, at, second)
		return err
	})
	assert.Contains(t, preview.Notes, "the database gangway_board of its kit stays")
	_, err = h.Domains.RemoveDomain(t.Context(), h.Operator, at, second)
	require.NoError(t, err)
	h.Work()
	assert.Equal(t, []string{"gangway_board"}, h.databases())
	assert.Empty(t, h.kits().Sites)
	assert.NoError(t, h.Kits.RemoveKit(t.Context(), h.Operator, "board", "1.0.0"), "no site has it any more")
}

func TestKitAtOpening(t *testing.T) {
	h := newHarbour(t)
	opening, err := h.Accounts.OpenAccount(t.Context(), h.Operator, api.OpenAccount{Domain: "jetty.example",
		Plan:     "quay",
		Customer: "Tern Ferries", Server: "skua", Kit: &api.NewSiteKit{Kit: "board"}})
	o := h.ended(api.Started{Operation: opening.KitOperation}, err)
	require.Equal(t, "done", o.State, o.Failure)
	assert.Equal(t, "one", h.agent.Site("jetty.example").Files["index.php"])
	_, err = h.Accounts.OpenAccount(t.Context(), h.Operator, api.OpenAccount{Domain: "pier.example", Plan: "quay",
		Customer: "Tern Ferries", Server: "skua", Kit: &api.NewSiteKit{Kit: "boat"}})
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestRegister(t *testing.T) {
	h := newHarbour(t)
	ctx := t.Context()
	files := map[string]string{"index.php": "x", "set.php": ""}
	same := archive(t, document("2.0"), files)
	for range 2 {
		k, err := h.registered(same, "")
		require.NoError(t, err)
		assert.Equal(t, "2.0", k.Versions[0].Version)
	}
	_, err := h.registered(archive(t, document("2.0"), map[string]string{
		"index.php": "y", "set.php": ""}), "")
	assert.Contains(t, servicetest.Refused(t, refusal.NameTaken, err).Detail, "a version never changes")
	_, err = h.registered([]byte("no archive"), "")
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = h.Kits.Register(ctx, h.Operator, fmt.Sprintf("%x", sha256.Sum256(same)), same[1:], "")
	assert.Contains(t, servicetest.Refused(t, refusal.InvalidInput, err).Detail, "not come whole")

	key, err := os.ReadFile("../../hosting/kits/testdata/signatures/ed25519.pub")
	require.NoError(t, err)
	_, err = h.Settings.ChangeSettings(ctx, h.Operator, 0, api.SettingsChange{KitKeys: &[]string{string(key)}})
	require.NoError(t, err)
	_, err = h.registered(archive(t, document("2.1"), files), "")
	assert.Contains(t, servicetest.Refused(t, refusal.NotAllowed, err).Detail, "must be signed")
	wrong, err := os.ReadFile("../../hosting/kits/testdata/signatures/ed25519.sig")
	require.NoError(t, err)
	_, err = h.registered(archive(t, document("2.1"), files),
		base64.StdEncoding.EncodeToString(wrong))
	assert.Contains(t, servicetest.Refused(t, refusal.NotAllowed, err).Detail, "not of this archive")

	// Resellers offer kits with their own plans, and see no others' plans.
	share := plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(9), plans.PHPWorkers: plans.Of(9)}
	reseller := h.Reseller("guillemot", "allotted", share, "kits")
	h.PlanOf("guillemot", "rock", nil, "kits")
	k, err := h.Kits.ChangeKit(ctx, reseller, "board", api.KitChange{Plans: &[]string{"rock"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"rock"}, k.Plans)
	_, err = h.Kits.ChangeKit(ctx, reseller, "board", api.KitChange{Plans: &[]string{"quay"}})
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = h.Kits.ChangeKit(ctx, reseller, "board", api.KitChange{Withdraw: []string{"2.0"}})
	servicetest.Refused(t, refusal.NotAllowed, err)
	k, err = h.Kits.ChangeKit(ctx, h.Operator, "board", api.KitChange{Withdraw: []string{"2.0"}})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"quay", "guillemot.rock"}, k.Plans)
	assert.Equal(t, "1.0", h.kits().Kits[0].Version, "the newest that is not withdrawn")
	assert.Equal(t, "1.0", k.Current)
	k, err = h.Kits.ChangeKit(ctx, h.Operator, "board", api.KitChange{Withdraw: []string{"1.0"}})
	require.NoError(t, err)
	assert.Empty(t, k.Current)
	assert.Empty(t, h.kits().Kits, "nothing is offered")
}
