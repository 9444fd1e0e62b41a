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
	// applied tells which manifests are in force, by name. A server has thousands, each of which is
	// read from its file when it is asked for: memory is for the server's sites.
	applied map[string]inForce
	working map[string]manifest.Manifest
}

// inForce is what is asked of all manifests in force at once.
type inForce struct{ home, present bool }

func inForceOf(m manifest.Manifest) inForce {
	return inForce{home: m.HasHome(), present: m.Wanted == manifest.Present}
}

func openState(dir string) (*state, error) {
	s := &state{dir: dir, applied: map[string]inForce{}, working: map[string]manifest.Manifest{}}
	for _, sub := range []string{"accounts", "journal"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	for m, err := range s.read("accounts") {
		if err != nil {
			return nil, err
		}
		s.applied[m.SignInName] = inForceOf(m)
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
	_, known := s.applied[name]
	s.mu.Unlock()
	if !known {
		return nil
	}
	m, err := readManifest(s.path("accounts", name))
	if err != nil {
		panic(fmt.Errorf("a manifest in force: %w", err)) // nothing good can come of going on without it
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
	s.applied[m.SignInName] = inForceOf(m)
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
func (s *state) begun() ([]manifest.Manifest, error) {
	var list []manifest.Manifest
	for m, err := range s.read("journal") {
		if err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	return list, nil
}

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

// read yields the manifests of a kind, one after the other, and ends
// with the first that cannot be read.
func (s *state) read(kind string) iter.Seq2[manifest.Manifest, error] {
	return func(yield func(manifest.Manifest, error) bool) {
		entries, err := os.ReadDir(filepath.Join(s.dir, kind))
		if err != nil {
			yield(manifest.Manifest{}, err)
			return
		}
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".json") {
				continue
			}
			m, err := readManifest(filepath.Join(s.dir, kind, e.Name()))
			if !yield(m, err) || err != nil {
				return
			}
		}
	}
}

func readManifest(path string) (m manifest.Manifest, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, fmt.Errorf("%s: %w", path, err)
	}
	return m, nil
}

func (s *state) write(kind, name string, text []byte) error {
	return wholefile.Write(s.path(kind, name), text, 0o600, "")
}
