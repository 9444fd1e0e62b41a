package home

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
)

// Mail makes and removes the directories that hold accounts' mail:
//
//	/home/.mail       root:root 0711
//	/home/.mail/NAME  the mail's own user and group, 0700: neither sites nor logins get in
//
// Mail counts against the account's disk limit with the home, if that is on the same server, and
// has a limit of its own otherwise.
type Mail struct {
	// Homes knows how that file system counts.
	Homes *Driver
}

// Name implements agent.Resource.
func (*Mail) Name() string { return "mail" }

// Concerns implements agent.Resource.
func (*Mail) Concerns(m manifest.Manifest) bool { return m.HasMail() }

// Check implements agent.Resource.
func (d *Mail) Check(_ context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	found, err := stat(m.MailPath())
	if err != nil {
		return nil, err
	}
	drift := func(subject, format string, args ...any) []agentlink.Drift {
		return []agentlink.Drift{{Part: d.Name(), Subject: subject, Detail: language.New(format, args...).Encode()}}
	}
	switch uid := uint32(m.MailUID()); {
	case found == nil && m.HasMail():
		return drift(m.MailPath(), "is missing"), nil
	case found == nil:
		return nil, nil
	case found.Gid != uid && m.HasMail():
		return drift(m.MailPath(), "belongs to group %d, not %d: it is not this account's", found.Gid, uid), nil
	case found.Gid == uid && !m.HasMail():
		return drift(m.MailPath(), "is still there"), nil
	case found.Gid == uid && (found.Uid != uid || found.Mode&0o7777 != 0o700):
		return drift(m.MailPath(), "has other rights than it should"), nil
	}
	if !m.HasMail() || m.HasHome() {
		return nil, nil
	}
	return d.Homes.checkLimit(m, d.Name(), m.MailPath())
}

// Ensure implements agent.Resource.
func (d *Mail) Ensure(_ context.Context, m manifest.Manifest, _ bool) (language.Text, error) {
	path, uid := m.MailPath(), m.MailUID()
	if err := os.Mkdir(filepath.Dir(path), 0o711); err != nil && !errors.Is(err, fs.ErrExist) {
		return language.Text{}, err
	}
	found, err := stat(path)
	switch {
	case err != nil:
		return language.Text{}, err
	case found == nil:
		if err := d.Homes.disk.create(path, m.UID()); err != nil {
			return language.Text{}, err
		}
	case int(found.Gid) != uid && !fresh(path, found):
		return language.Text{}, fmt.Errorf("%s is on the server already and is not this account's; move it away", path)
	}
	if !m.HasHome() {
		if err := d.Homes.limitTo(m.UID(), d.Homes.expected(m)); err != nil {
			return language.Text{}, err
		}
	}
	return language.New("%s", path), errors.Join(os.Lchown(path, uid, uid), os.Chmod(path, 0o700))
}

// Remove implements agent.Resource.
func (d *Mail) Remove(_ context.Context, m manifest.Manifest) error {
	found, err := stat(m.MailPath())
	if err != nil || found == nil {
		return err
	}
	if int(found.Gid) != m.MailUID() && !fresh(m.MailPath(), found) {
		return nil
	}
	return d.Homes.disk.removeBeside(m.MailPath(), m.UID())
}
