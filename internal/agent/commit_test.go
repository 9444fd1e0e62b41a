package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/sites"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// strict is a program that reads one file per account. It refuses a
// configuration with the word "bad" in it, or with two accounts of one colour:
// things that renderings of real manifests cannot provoke.
type strict struct {
	dir string

	mu      sync.Mutex
	tests   int
	reloads int
	broken  error // what a reload answers
	slow    time.Duration
}

func (p *strict) Name() string { return "strict" }

func (p *strict) Base(manifest.Server) []render.File {
	return []render.File{{Path: filepath.Join(p.dir, "base"), Mode: 0o644, Content: "base"}}
}

// Files renders the account's domain, whose first label is its content and, up
// to a hyphen, its colour.
func (p *strict) Files(m manifest.Manifest) []render.File {
	if m.Wanted == manifest.Absent {
		return nil
	}
	content := ""
	if len(m.Sites) > 0 {
		content, _, _ = strings.Cut(m.Sites[0].Domain.String(), ".")
	}
	return []render.File{{Path: filepath.Join(p.dir, m.SignInName+".conf"), Mode: 0o644, Content: content}}
}

func (p *strict) AccountFiles() ([]string, error) {
	return filepath.Glob(filepath.Join(p.dir, "*.conf"))
}

func (p *strict) Owner(path string) string {
	return strings.TrimSuffix(filepath.Base(path), ".conf")
}

func (p *strict) Test(_ context.Context, staged []staging.Change) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tests++
	time.Sleep(p.slow)
	files := map[string]string{}
	live, _ := filepath.Glob(filepath.Join(p.dir, "*"))
	for _, path := range live {
		text, _ := os.ReadFile(path)
		files[path] = string(text)
	}
	for _, ch := range staged {
		delete(files, ch.Path)
		if ch.File != nil {
			files[ch.Path] = ch.File.Content
		}
	}
	colours := map[string]string{}
	for path, content := range files {
		if strings.Contains(content, "bad") {
			return fmt.Errorf("bad content in %s", path)
		}
		if colour, _, found := strings.Cut(content, "-"); found {
			if other := colours[colour]; other != "" {
				return fmt.Errorf("%s in %s and %s", colour, other, path)
			}
			colours[colour] = path
		}
	}
	return nil
}

func (p *strict) Reload(context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.broken != nil {
		return p.broken
	}
	p.reloads++
	return nil
}

func (p *strict) Verify(context.Context, manifest.Manifest) (language.Text, error) {
	return language.New("seen"), nil
}
func (p *strict) VerifyGone(context.Context, manifest.Manifest) (language.Text, error) {
	return language.New("gone"), nil
}
func (p *strict) Status(context.Context) agentlink.ProgramStatus { return agentlink.ProgramStatus{} }

func committing(t *testing.T) (*committer, *strict) {
	t.Helper()
	p := &strict{dir: t.TempDir()}
	c := newCommitter([]Program{p}, func() manifest.Server { return manifest.Server{} })
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go c.run(ctx)
	return c, p
}

func site(t *testing.T, id int64, label string) manifest.Manifest {
	t.Helper()
	d, _, err := names.ParseDomain(label + ".example")
	require.NoError(t, err)
	return manifest.Manifest{AccountID: id, SignInName: fmt.Sprintf("a%d", id), Revision: 1, Wanted: manifest.Present,
		PHP:   manifest.PHP{Workers: 1},
		Sites: []manifest.Site{{Domain: d, Root: "sites/x", Switches: sites.Defaults()}}}
}

// together commits manifests as one group and returns the outcomes.
func together(c *committer, all ...manifest.Manifest) []error {
	outcomes := make([]error, len(all))
	overs := make([]func(), len(all))
	for i := range all {
		overs[i] = c.announce()
	}
	var group sync.WaitGroup
	for i, m := range all {
		group.Go(func() {
			ch := &change{find: func(there owned) (map[Program][]staging.Change, error) {
				return c.differences(m, there)
			}, report: func(string, language.Text) {}}
			defer overs[i]()
			outcomes[i] = c.submit(ch)
		})
	}
	// All are waiting once each has handed in its change.
	for range 200 {
		c.mu.Lock()
		n := len(c.waiting)
		c.mu.Unlock()
		if n == len(all) {
			break
		}
		time.Sleep(time.Millisecond)
	}
	group.Wait()
	return outcomes
}

func content(t *testing.T, p *strict, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(p.dir, name+".conf"))
	if errors.Is(err, os.ErrNotExist) {
		return ""
	}
	require.NoError(t, err)
	return string(text)
}

func TestOneReloadForMany(t *testing.T) {
	c, p := committing(t)
	for _, err := range together(c, site(t, 1, "one"), site(t, 2, "two"), site(t, 3, "three"), site(t, 4, "four")) {
		assert.NoError(t, err)
	}
	assert.Equal(t, 1, p.reloads)
	assert.Equal(t, "three", content(t, p, "a3"))
	assert.FileExists(t, filepath.Join(p.dir, "base"), "the shared file comes with the first commit")

	for _, err := range together(c, site(t, 1, "one"), site(t, 2, "two")) {
		assert.NoError(t, err)
	}
	assert.Equal(t, 1, p.reloads, "nothing differs, nothing is reloaded")

	require.NoError(t, os.Remove(filepath.Join(p.dir, "base")))
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	assert.FileExists(t, filepath.Join(p.dir, "base"), "and comes back with the next")
}

func TestOnlyTheCulpritFails(t *testing.T) {
	c, p := committing(t)
	require.NoError(t, together(c, site(t, 5, "before"))[0])
	var all []manifest.Manifest
	for id := int64(1); id <= 9; id++ {
		label := fmt.Sprint("good", id)
		if id == 5 {
			label = "bad"
		}
		all = append(all, site(t, id, label))
	}
	outcomes := together(c, all...)
	for i, err := range outcomes {
		if i == 4 {
			assert.ErrorContains(t, err, "bad content")
			var named *programError
			require.ErrorAs(t, err, &named)
			assert.Equal(t, "strict", named.program)
		} else {
			assert.NoError(t, err)
			assert.Equal(t, fmt.Sprint("good", i+1), content(t, p, fmt.Sprint("a", i+1)))
		}
	}
	assert.Equal(t, "before", content(t, p, "a5"), "its own old file stays")
	assert.Equal(t, 2, p.reloads, "one for the first, one for all the others")
}

// Two that are sound alone and not together: one of them gets in.
func TestTwoThatDoNotGoTogether(t *testing.T) {
	c, p := committing(t)
	outcomes := together(c, site(t, 1, "red-a"), site(t, 2, "blue-a"), site(t, 3, "red-b"), site(t, 4, "green-a"))
	failed := 0
	for _, err := range outcomes {
		if err != nil {
			assert.ErrorContains(t, err, "red in")
			failed++
		}
	}
	assert.Equal(t, 1, failed)
	assert.NoError(t, outcomes[1])
	assert.NoError(t, outcomes[3])
	assert.NoError(t, p.Test(context.Background(), nil), "what is live is sound")
}

func TestBrokenBefore(t *testing.T) {
	c, p := committing(t)
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	raw := filepath.Join(p.dir, "raw")
	require.NoError(t, os.WriteFile(raw, []byte("bad"), 0o644))
	p.tests = 0
	for _, err := range together(c, site(t, 1, "other"), site(t, 2, "two"), site(t, 3, "three")) {
		assert.ErrorContains(t, err, "was broken before this change: bad content in "+raw)
	}
	assert.Equal(t, 2, p.tests, "with the change and without; no halving")
	assert.Equal(t, "one", content(t, p, "a1"))
	require.NoError(t, os.Remove(raw))
	for _, err := range together(c, site(t, 1, "other"), site(t, 2, "two"), site(t, 3, "three")) {
		assert.NoError(t, err)
	}
}

// A change that changes nothing, such as the undoing of an opening that never
// got so far, does not fail with those that it shares a commit with.
func TestNothingToChangeIsNobodysFault(t *testing.T) {
	c, p := committing(t)
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "raw"), []byte("bad"), 0o644))
	gone := site(t, 3, "three")
	gone.Wanted, gone.Sites = manifest.Absent, nil
	outcomes := together(c, site(t, 1, "one"), site(t, 2, "two"), gone)
	assert.NoError(t, outcomes[0])
	assert.ErrorContains(t, outcomes[1], "was broken before this change")
	assert.NoError(t, outcomes[2])
	assert.Equal(t, 1, p.reloads)
}

func TestReloadThatFails(t *testing.T) {
	c, p := committing(t)
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	p.broken = errors.New("is not running")
	for _, err := range together(c, site(t, 1, "other"), site(t, 2, "two")) {
		assert.ErrorContains(t, err, "is not running")
	}
	assert.Equal(t, "one", content(t, p, "a1"), "the old file is back")
	assert.Empty(t, content(t, p, "a2"), "the new one is gone")
}

func TestRemoval(t *testing.T) {
	c, p := committing(t)
	m := site(t, 1, "one")
	require.NoError(t, together(c, m)[0])
	m.Wanted, m.Sites = manifest.Absent, nil
	require.NoError(t, together(c, m)[0])
	assert.NoFileExists(t, filepath.Join(p.dir, "a1.conf"))
}

func TestDirtyReloadsOnce(t *testing.T) {
	c, p := committing(t)
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	c.mu.Lock()
	c.dirty = true
	c.mu.Unlock()
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	assert.Equal(t, 2, p.reloads, "as if the files had been swapped and the reload not come")
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	assert.Equal(t, 2, p.reloads)
}

// A change that is being prepared is waited for, but not for ever.
func TestGathering(t *testing.T) {
	c, p := committing(t)
	over := c.announce() // somebody who takes long
	defer over()
	begun := time.Now()
	require.NoError(t, together(c, site(t, 1, "one"))[0])
	assert.GreaterOrEqual(t, time.Since(begun), c.gather)
	assert.Less(t, time.Since(begun), 20*c.gather)
	assert.Equal(t, 1, p.reloads)
}

func TestStateOnDisk(t *testing.T) {
	dir := t.TempDir()
	s, err := openState(dir)
	require.NoError(t, err)
	m := site(t, 1, "one")
	require.NoError(t, s.begin(m))
	assert.Len(t, s.working, 1)
	assert.Nil(t, s.last("a1"))

	killed, err := openState(dir)
	require.NoError(t, err)
	begun, err := killed.begun()
	require.NoError(t, err)
	assert.Equal(t, []manifest.Manifest{m}, begun, "what was begun is known after a kill")

	require.NoError(t, killed.end(m))
	assert.Empty(t, killed.working)
	again, err := openState(dir)
	require.NoError(t, err)
	assert.Equal(t, &m, again.last("a1"))
	begun, err = again.begun()
	require.NoError(t, err)
	assert.Empty(t, begun)
	require.NoError(t, again.abandon("a1"), "nothing to strike out is no error")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "accounts", "a2.json"), []byte("{cut"), 0o600))
	_, err = openState(dir)
	assert.ErrorContains(t, err, "a2.json")
}

func TestAdmit(t *testing.T) {
	last := site(t, 7, "one")
	last.Revision = 5
	gone := last
	gone.Wanted = manifest.Absent
	for name, c := range map[string]struct {
		id, revision int64
		last         *manifest.Manifest
		says         string
	}{
		"first":                       {7, 1, nil, ""},
		"the same":                    {7, 5, &last, ""},
		"newer":                       {7, 6, &last, ""},
		"older":                       {7, 4, &last, "older than revision 5"},
		"another's name":              {8, 1, &last, "belongs to account 7"},
		"a name that is free again":   {8, 1, &gone, ""},
		"a late word of the one gone": {6, 9, &gone, "account 7's since"},
	} {
		t.Run(name, func(t *testing.T) {
			m := site(t, c.id, "one")
			m.Revision = c.revision
			err := admit(m, c.last)
			if c.says == "" {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, c.says)
			}
		})
	}
}

func TestFileDrift(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	want := staging.Change{Path: path, File: &render.File{Path: path, Content: "one\ntwo\n"}}
	d := fileDrift("nginx", want)
	assert.Equal(t, "is missing", d.Detail)
	assert.Contains(t, d.Diff, "+one\n+two\n")
	require.NoError(t, os.WriteFile(path, []byte("one\n2"), 0o644))
	d = fileDrift("nginx", want)
	assert.Equal(t, "has been changed", d.Detail)
	assert.Contains(t, d.Diff, " one\n-2\n+two\n")
	d = fileDrift("nginx", staging.Change{Path: path})
	assert.Equal(t, "should not be there", d.Detail)
	assert.Empty(t, d.Diff, "it may be anything")
	want.File.Secret = true
	d = fileDrift("nginx", want)
	assert.Equal(t, "has been changed", d.Detail)
	assert.Empty(t, d.Diff)
}
