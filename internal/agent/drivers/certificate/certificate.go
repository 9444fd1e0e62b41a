// Package certificate keeps the certificates with which a server's sites
// speak TLS: one for each site, the one that its manifest has, or else
// one that is signed here, so that no site has to wait for an authority.
package certificate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"victualler/internal/agent/selfsigned"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// A self-signed certificate lasts so long, and is made anew when less than renewLeft is left of it.
const (
	lasting   = 2 * 365 * 24 * time.Hour
	renewLeft = 30 * 24 * time.Hour
)

// Driver keeps certificates. Make one with [New].
type Driver struct {
	now func() time.Time

	mu sync.Mutex
	// sound remembers what was found of a pair of files, so that a
	// sweep need not read keys that have not changed.
	sound map[string]finding
}

type finding struct {
	certificate, key stamp
	ends             time.Time
	names            []string
}

// stamp changes when a file does.
type stamp struct {
	at   time.Time
	size int64
}

// New returns the driver, with the directory for authorities' challenges made.
func New() (*Driver, error) {
	// The directory above holds what the web server's workers read, too.
	err := errors.Join(os.MkdirAll(filepath.Dir(render.ChallengeFile("x")), 0o755), os.MkdirAll(render.NGINXDir, 0o755),
		os.MkdirAll(render.TLSDir, 0o700))
	return &Driver{now: time.Now, sound: map[string]finding{}}, err
}

// Name implements agent.Resource.
func (*Driver) Name() string { return "certificates" }

// Concerns implements agent.Resource.
func (*Driver) Concerns(m manifest.Manifest) bool { return m.HasHome() }

func dir(m manifest.Manifest) string { return filepath.Join(render.TLSDir, m.SignInName) }

// Check implements agent.Resource.
func (d *Driver) Check(_ context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	if !m.HasHome() {
		if _, err := os.Lstat(dir(m)); errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		return []agentlink.Drift{{Part: d.Name(), Subject: dir(m),
			Detail: language.New("is still there").Encode()}}, nil
	}
	var drifts []agentlink.Drift
	for _, site := range m.Sites {
		if wrong := d.wrong(m, site); !wrong.IsZero() {
			drifts = append(drifts, agentlink.Drift{Part: d.Name(), Subject: render.CertificateFile(m, site),
				Detail: wrong.Encode()})
		}
	}
	return drifts, nil
}

// wrong tells what is the matter with a site's certificate; empty for nothing.
func (d *Driver) wrong(m manifest.Manifest, site manifest.Site) language.Text {
	file, key := render.CertificateFile(m, site), render.KeyFile(m, site)
	fileStamp, err1 := stampOf(file)
	keyStamp, err2 := stampOf(key)
	if err := errors.Join(err1, err2); errors.Is(err, fs.ErrNotExist) {
		return language.New("is missing")
	} else if err != nil {
		return language.New("cannot be read: %s", err.Error())
	}
	d.mu.Lock()
	found, known := d.sound[file]
	d.mu.Unlock()
	if !known || found.certificate != fileStamp || found.key != keyStamp {
		pair, err := tls.LoadX509KeyPair(file, key)
		if err != nil {
			return language.New("does not work: %s", err.Error())
		}
		found = finding{certificate: fileStamp, key: keyStamp, ends: pair.Leaf.NotAfter, names: pair.Leaf.DNSNames}
		d.mu.Lock()
		d.sound[file] = found
		d.mu.Unlock()
	}
	if site.Certificate != nil {
		if text, err := os.ReadFile(file); err != nil || string(text) != site.Certificate.Chain {
			return language.New("is another one")
		}
		return language.Text{} // whether it is good for the site is not for the server to say
	}
	for _, name := range site.Names() {
		if !slices.Contains(found.names, name) {
			return language.New("is not for %s", name)
		}
	}
	if found.ends.Sub(d.now()) < renewLeft {
		return language.New("ends on %s", found.ends.UTC().Format(time.DateOnly))
	}
	return language.Text{}
}

func stampOf(path string) (stamp, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return stamp{}, err
	}
	if !info.Mode().IsRegular() || info.Mode().Perm()&0o077 != 0 {
		return stamp{}, fmt.Errorf("%s may be read by others than root", path)
	}
	return stamp{info.ModTime(), info.Size()}, nil
}

// Ensure implements agent.Resource.
func (d *Driver) Ensure(_ context.Context, m manifest.Manifest, _ bool) (language.Text, error) {
	if err := os.MkdirAll(dir(m), 0o700); err != nil {
		return language.Text{}, err
	}
	made, installed := 0, 0
	for _, site := range m.Sites {
		if d.wrong(m, site).IsZero() {
			continue
		}
		if site.Certificate != nil {
			if err := install(m, site); err != nil {
				return language.Text{}, fmt.Errorf("certificate for %s: %w", site.Domain, err)
			}
			installed++
			continue
		}
		if err := d.make(m, site); err != nil {
			return language.Text{}, fmt.Errorf("certificate for %s: %w", site.Domain, err)
		}
		made++
	}
	switch {
	case made == 0 && installed == 0:
		return language.New("%d in order", len(m.Sites)), nil
	case made == 0:
		return language.New("%d installed", installed), nil
	case installed == 0:
		return language.New("%d made, self-signed", made), nil
	}
	return language.New("%d installed, and %d made, self-signed", installed, made), nil
}

// install puts the certificate that a site's manifest has beside the
// one that is in use: nginx is told by its configuration.
func install(m manifest.Manifest, site manifest.Site) error {
	return errors.Join(wholefile.Write(render.KeyFile(m, site), []byte(site.Certificate.Key), 0o600, ""),
		wholefile.Write(render.CertificateFile(m, site), []byte(site.Certificate.Chain), 0o600, ""))
}

// make makes a key and a certificate that it has signed itself.
func (d *Driver) make(m manifest.Manifest, site manifest.Site) error {
	certificate, key, err := selfsigned.Make(site.Names(), d.now(), lasting)
	if err != nil {
		return err
	}
	// The key first: a certificate without its key is no worse than neither.
	return errors.Join(put(render.KeyFile(m, site), key), put(render.CertificateFile(m, site), certificate))
}

// put writes a file that only root may read.
func put(path string, content []byte) error { return wholefile.Write(path, content, 0o600, "") }

// Tidy implements agent.Tidier: certificates of sites that are no more
// go when nginx no longer names them.
func (d *Driver) Tidy(_ context.Context, m manifest.Manifest) error {
	wanted := map[string]bool{}
	for _, site := range m.Sites {
		wanted[render.CertificateFile(m, site)], wanted[render.KeyFile(m, site)] = true, true
	}
	entries, err := os.ReadDir(dir(m))
	if err != nil {
		return err
	}
	for _, entry := range entries {
		if path := filepath.Join(dir(m), entry.Name()); !wanted[path] {
			err = errors.Join(err, os.Remove(path))
			d.forget(path)
		}
	}
	return err
}

// Remove implements agent.Resource.
func (d *Driver) Remove(_ context.Context, m manifest.Manifest) error {
	entries, _ := os.ReadDir(dir(m))
	for _, entry := range entries {
		d.forget(filepath.Join(dir(m), entry.Name()))
	}
	return os.RemoveAll(dir(m))
}

func (d *Driver) forget(path string) {
	d.mu.Lock()
	delete(d.sound, path)
	d.mu.Unlock()
}
