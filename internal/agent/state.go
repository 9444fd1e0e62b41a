package agent

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"victualler/internal/agent/wholefile"
	"victualler/internal/manifest"
)

// state is the agent's memory on disk:
//
//	accounts/NAME.json  the last manifest that was applied in full
//	journal/NAME.json   a manifest whose apply has begun and not ended
//	server.json         what the server holds for all accounts together
//	program             digest of the program that applied them
//
// A file is replaced as a whole and is on the disk before a call returns.
type state struct {
	dir string

	mu     sync.Mutex
	shared manifest.Server
	// applied are the manifests in force, by name, as they are written: a server has thousands, and
	// each is read once in a minute.
	applied map[string]savedManifest
	working map[string]manifest.Manifest
}

// savedManifest is a manifest in force.
type savedManifest struct {
	text []byte
	// home and present are what is asked of all of them at once.
	home, present bool
}

func newSavedManifest(m manifest.Manifest, text []byte) savedManifest {
	return savedManifest{text, m.HasHome(), m.Wanted == manifest.Present}
}

func openState(dir string) (*state, error) {
	s := &state{dir: dir, applied: map[string]savedManifest{}, working: map[string]manifest.Manifest{}}
	for _, sub := range []string{"accounts", "journal"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	all, err := s.read("accounts")
	if err != nil {
		return nil, err
	}
	for _, m := range all {
		text, err := json.Marshal(m)
		if err != nil {
			return nil, err
		}
		s.applied[m.SignInName] = newSavedManifest(m, text)
	}
	text, err := os.ReadFile(s.serverFile())
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s.shared)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.serverFile(), err)
	}
	return s, nil
}

func (s *state) serverFile() string { return filepath.Join(s.dir, "server.json") }

// server returns what the server holds for all accounts together.
func (s *state) server() manifest.Server {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.shared
}

// saveServer replaces what the server holds for all accounts together.
func (s *state) saveServer(m manifest.Server) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := wholefile.Write(s.serverFile(), text, 0o600, ""); err != nil {
		return err
	}
	s.shared = m
	return nil
}

// last returns the manifest that is in force for a name; nil if there never was one.
func (s *state) last(name string) *manifest.Manifest {
	s.mu.Lock()
	k, known := s.applied[name]
	s.mu.Unlock()
	if !known {
		return nil
	}
	m := manifest.Manifest{}
	if err := json.Unmarshal(k.text, &m); err != nil {
		panic(err) // it was written by this program
	}
	return &m
}

// names are those for which a manifest is in force, sorted.
func (s *state) names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.applied))
}

// all are the manifests in force, by name, one after the other.
func (s *state) all() iter.Seq[manifest.Manifest] {
	return func(yield func(manifest.Manifest) bool) {
		for _, name := range s.names() {
			if m := s.last(name); m != nil && !yield(*m) {
				return
			}
		}
	}
}

// count is how many accounts have a manifest in force, and home how
// many of them have their home here.
func (s *state) count() (all, home int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.applied {
		if k.home {
			home++
		}
	}
	return len(s.applied), home
}

// present tells of each name that a manifest bears, in force or under
// way, whether the account is to be on the server.
func (s *state) present() map[string]bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := map[string]bool{}
	for name, k := range s.applied {
		names[name] = k.present
	}
	for name, m := range s.working {
		names[name] = names[name] || m.Wanted == manifest.Present
	}
	return names
}

// begin writes the intention down.
func (s *state) begin(m manifest.Manifest) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.working[m.SignInName] = m
	s.mu.Unlock()
	return s.write("journal", m.SignInName, text)
}

// end makes m the manifest in force and strikes out the intention.
func (s *state) end(m manifest.Manifest) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := s.write("accounts", m.SignInName, text); err != nil {
		return err
	}
	s.mu.Lock()
	s.applied[m.SignInName] = newSavedManifest(m, text)
	s.mu.Unlock()
	return s.abandon(m.SignInName)
}

// abandon strikes out an intention after its effects were undone.
func (s *state) abandon(name string) error {
	s.mu.Lock()
	delete(s.working, name)
	s.mu.Unlock()
	err := os.Remove(s.path("journal", name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// begun returns the intentions that a killed agent left.
func (s *state) begun() ([]manifest.Manifest, error) { return s.read("journal") }

// newProgram reports whether another program than this one applied the
// manifests in force, and keeps that it is this one from now on.
func (s *state) newProgram() (bool, error) {
	self, err := os.Open("/proc/self/exe")
	if err != nil {
		return false, err
	}
	defer self.Close()
	digest := sha256.New()
	if _, err := io.Copy(digest, self); err != nil {
		return false, err
	}
	mine := hex.EncodeToString(digest.Sum(nil))
	path := filepath.Join(s.dir, "program")
	last, err := os.ReadFile(path)
	if err == nil && string(last) == mine {
		return false, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	before, _ := s.count()
	return before > 0, wholefile.Write(path, []byte(mine), 0o600, "")
}

func (s *state) path(kind, name string) string { return filepath.Join(s.dir, kind, name+".json") }

func (s *state) read(kind string) ([]manifest.Manifest, error) {
	entries, err := os.ReadDir(filepath.Join(s.dir, kind))
	if err != nil {
		return nil, err
	}
	var list []manifest.Manifest
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".json") {
			continue
		}
		path := filepath.Join(s.dir, kind, e.Name())
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		var m manifest.Manifest
		if err := json.Unmarshal(text, &m); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		list = append(list, m)
	}
	return list, nil
}

func (s *state) write(kind, name string, text []byte) error {
	return wholefile.Write(s.path(kind, name), text, 0o600, "")
}
