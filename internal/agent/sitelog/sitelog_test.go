package sitelog

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"victualler/internal/agent/follow"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bench is a splitter with homes of its own; the tests run as root, as the agent does.
func bench(t *testing.T, accounts ...string) *Splitter {
	t.Helper()
	dir := t.TempDir()
	s := &Splitter{Source: filepath.Join(dir, "requests.log"), StateFile: filepath.Join(dir, "state.json"),
		Homes: filepath.Join(dir, "home"), Log: slog.Default(),
		Count: func(string, string, int) {}, Now: time.Now, Reopen: func(context.Context) error {
			return os.WriteFile(filepath.Join(dir, "requests.log"), nil, 0o644)
		}}
	for _, a := range accounts {
		require.NoError(t, os.MkdirAll(Dir(s.Homes, a), 0o750))
	}
	s.begin()
	return s
}

func add(t *testing.T, s *Splitter, text string) {
	t.Helper()
	f, err := os.OpenFile(s.Source, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func content(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}

func TestLinesComeToTheirSites(t *testing.T) {
	ctx := context.Background()
	s := bench(t, "ferries", "bakery")
	requests := map[string]int{}
	s.Count = func(account, domain string, n int) { requests[account+" "+domain] += n }
	add(t, s, "ferries ferries.example one\nbakery bakery.example two\nferries ferries.example three\n")
	add(t, s, "bakery silent.example \nbakery silent.example \n")
	add(t, s, "nobody gone.example x\n no site at all\nferries ../../etc/passwd x\nFERRIES ferries.example "+
		"x\nferries ferries.example ha")
	require.NoError(t, s.log.Pass(ctx))
	assert.Equal(t, "one\nthree\n", content(t, File(s.Homes, "ferries", "ferries.example")),
		"a line that is not whole waits")
	assert.Equal(t, "two\n", content(t, File(s.Homes, "bakery", "bakery.example")))
	assert.NoFileExists(t, File(s.Homes, "bakery", "silent.example"), "it keeps no log")
	assert.Equal(t, map[string]int{"ferries ferries.example": 2, "bakery bakery.example": 1, "bakery silent.example": 2,
		"nobody gone.example": 1}, requests)
	_, err := os.Stat(filepath.Join(s.Homes, "nobody"))
	assert.Error(t, err, "nothing is made for whom there is no home")

	// Killed here, another one goes on where it was.
	again := &Splitter{Source: s.Source, StateFile: s.StateFile, Homes: s.Homes, Log: s.Log, Now: time.Now,
		Reopen: s.Reopen, Count: s.Count}
	run, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { again.Run(run); close(done) }()
	add(t, s, "lf\n")
	require.Eventually(t, func() bool {
		return content(t, File(s.Homes, "ferries", "ferries.example")) == "one\nthree\nhalf\n"
	}, time.Minute, 10*time.Millisecond)
	stop()
	<-done
}

func TestNothingIsWrittenThroughLinks(t *testing.T) {
	s := bench(t, "ferries", "bakery")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("as it was"), 0o600))
	require.NoError(t, os.Symlink(secret, File(s.Homes, "ferries", "ferries.example")))
	require.NoError(t, os.RemoveAll(Dir(s.Homes, "bakery")))
	require.NoError(t, os.Symlink(filepath.Dir(secret), Dir(s.Homes, "bakery")))
	add(t, s, "ferries ferries.example one\nbakery secret two\nbakery bakery.example two\n")
	require.NoError(t, s.log.Pass(context.Background()))
	assert.Equal(t, "as it was", content(t, secret))
	entries, err := os.ReadDir(filepath.Dir(secret))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	require.NoError(t, os.Chown(Dir(s.Homes, "ferries"), 12345, 12345))
	require.NoError(t, os.Remove(File(s.Homes, "ferries", "ferries.example")))
	add(t, s, "ferries ferries.example one\n")
	require.NoError(t, s.log.Pass(context.Background()))
	_, err = os.Stat(File(s.Homes, "ferries", "ferries.example"))
	assert.Error(t, err, "a directory that is not root's is not written to")
}

func TestRotation(t *testing.T) {
	ctx := context.Background()
	s := bench(t, "ferries")
	now := time.Now()
	s.Now = func() time.Time { return now }
	s.begin()
	path := File(s.Homes, "ferries", "ferries.example")
	for n := range 20 {
		add(t, s, fmt.Sprintf("ferries ferries.example day %d\n", n))
		require.NoError(t, s.log.Pass(ctx))
		assert.Equal(t, fmt.Sprintf("day %d\n", n), content(t, path))
		require.NoError(t, os.Chtimes(path, now, now))
		now = now.Add(24 * time.Hour)
	}
	rotated, err := filepath.Glob(filepath.Join(Dir(s.Homes, "ferries"), "*.gz"))
	require.NoError(t, err)
	require.Len(t, rotated, Kept)
	f, err := os.Open(rotated[0])
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, "day 5\n", string(text), "the oldest that is kept")

	// Too large within one day.
	require.NoError(t, os.Truncate(path, LargestFile))
	require.NoError(t, os.Chtimes(path, now, now))
	add(t, s, "ferries ferries.example fresh\n")
	require.NoError(t, s.log.Pass(ctx))
	assert.Equal(t, "fresh\n", content(t, path))
}

func TestTheCommonLogIsPutAside(t *testing.T) {
	ctx := context.Background()
	s := bench(t, "ferries")
	now := time.Now()
	s.Now = func() time.Time { return now }
	s.begin()
	line := "ferries ferries.example " + strings.Repeat("x", 1000) + "\n"
	add(t, s, strings.Repeat(line, follow.Largest/len(line)+1))
	require.NoError(t, s.log.Pass(ctx))
	_, err := os.Stat(s.Source + ".old")
	require.NoError(t, err, "put aside")
	f, err := os.OpenFile(s.Source+".old", os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("ferries ferries.example by a worker that was late\n")
	require.NoError(t, err)
	add(t, s, "ferries ferries.example in the new one\n")
	require.NoError(t, s.log.Pass(ctx))
	now = now.Add(5 * time.Second)
	require.NoError(t, s.log.Pass(ctx))
	require.NoError(t, s.log.Pass(ctx))
	assert.True(t, strings.HasSuffix(content(t, File(s.Homes, "ferries", "ferries.example")),
		"by a worker that was late\nin the new one\n"))
	_, err = os.Stat(s.Source + ".old")
	assert.Error(t, err, "and gone when it was read")
}

func TestReading(t *testing.T) {
	ctx := context.Background()
	homes := t.TempDir()
	require.NoError(t, os.MkdirAll(Dir(homes, "ferries"), 0o750))
	path := File(homes, "ferries", "ferries.example")
	page, err := Read(ctx, homes, "ferries", "ferries.example", 10, "")
	require.NoError(t, err)
	assert.Empty(t, page.Lines)
	var all strings.Builder
	for n := range 50 {
		fmt.Fprintf(&all, "line %d\n", n)
	}
	go func() {
		time.Sleep(50 * time.Millisecond)
		_ = os.WriteFile(path, []byte(all.String()+"half"), 0o640)
	}()
	page, err = Read(ctx, homes, "ferries", "ferries.example", 10, page.Next)
	require.NoError(t, err)
	assert.Len(t, page.Lines, 50, "what has come since, and no half line")
	last, err := Read(ctx, homes, "ferries", "ferries.example", 3, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"line 47", "line 48", "line 49"}, last.Lines)
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	none, err := Read(short, homes, "ferries", "ferries.example", 3, last.Next)
	require.NoError(t, err)
	assert.Empty(t, none.Lines)
	assert.Equal(t, last.Next, none.Next)
	require.NoError(t, os.Rename(path, path+".old"))
	require.NoError(t, os.WriteFile(path, []byte("after the rotation\n"), 0o640))
	page, err = Read(ctx, homes, "ferries", "ferries.example", 3, none.Next)
	require.NoError(t, err)
	assert.Equal(t, []string{"after the rotation"}, page.Lines)
	_, err = Read(ctx, homes, "ferries", "ferries.example", 3, "nonsense")
	assert.Error(t, err)
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.Symlink("/etc/passwd", path))
	_, err = Read(ctx, homes, "ferries", "ferries.example", 3, "")
	assert.Error(t, err)
}
