// Package manifest defines what one server must hold for one account. It is
// the table of contents of everything an account can have on a server: each
// part of the product adds one field here.
package manifest

import (
	"errors"
	"fmt"
	"path"
	"regexp"

	"victualler/internal/hosting/names"
)

// Wanted says whether the account is to be on the server at all.
type Wanted string

// The wanted states.
const (
	Present Wanted = "present"
	Absent  Wanted = "absent"
)

// Manifest is the wanted state of one account on one server. Applying the same
// manifest twice changes nothing the second time.
type Manifest struct {
	// AccountID is the account's number in the installation. The agent marks
	// what it makes with it and never takes over what bears another mark.
	AccountID int64 `json:"account_id"`
	// SignInName is the system user's name and the home's.
	SignInName string `json:"sign_in_name"`
	// Revision rises with every change of the account. An agent refuses a
	// revision lower than the one it has.
	Revision int64 `json:"revision"`
	// Wanted is Absent for a closed account; the parts below are then empty.
	Wanted Wanted `json:"wanted"`
	// Suspended says that the sites show a notice instead of their content; everything stays.
	Suspended bool   `json:"suspended,omitempty"`
	Home      Home   `json:"home"`
	PHP       PHP    `json:"php"`
	Sites     []Site `json:"sites"`
}

// Home is the account's directory.
type Home struct {
	// DiskLimit is the most the home may hold, in bytes; nil is unlimited.
	DiskLimit *int64 `json:"disk_limit"`
}

// PHP tells how the account's PHP runs: one pool, as the account's own user.
type PHP struct {
	// Workers is how many requests are served at the same time, at least 1.
	Workers int `json:"workers"`
}

// Site is one virtual host.
type Site struct {
	// Domain is the site's main name. The site answers for it and for "www." before it.
	Domain names.Domain `json:"domain"`
	// Root is the document root, relative to the home, such as "sites/ferries.example".
	Root string `json:"root"`
	// Starter asks for a page that says the site is ready, if the document root is empty or missing.
	Starter bool `json:"starter"`
}

// Names returns every name the site answers for.
func (s Site) Names() []string { return []string{s.Domain.String(), "www." + s.Domain.String()} }

// HomePath returns the home's absolute path on every server.
func (m Manifest) HomePath() string { return "/home/" + m.SignInName }

// RootFor proposes the document root for a domain.
func RootFor(d names.Domain) string { return "sites/" + d.String() }

var rootPart = regexp.MustCompile(`^[a-z0-9_][a-zA-Z0-9._-]{0,249}$`)

// Validate refuses a manifest that must not reach a server's files. The
// service never makes such a manifest; the agent checks all the same, because
// what it writes is read by programs that run as root.
func (m Manifest) Validate() error {
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	if m.AccountID <= 0 {
		wrong("account_id must be above 0")
	}
	if m.Revision <= 0 {
		wrong("revision must be above 0")
	}
	if err := names.CheckSignIn(m.SignInName); err != nil {
		wrong("sign_in_name: %w", err)
	}
	if m.Wanted == Absent {
		if len(m.Sites) > 0 {
			wrong("an absent account has no sites")
		}
		return errors.Join(errs...)
	}
	if m.Wanted != Present {
		wrong("wanted must be present or absent")
	}
	if m.PHP.Workers < 1 || m.PHP.Workers > 500 {
		wrong("php.workers must be from 1 to 500")
	}
	if m.Home.DiskLimit != nil && *m.Home.DiskLimit < 0 {
		wrong("home.disk_limit cannot be negative")
	}
	seen := map[string]bool{}
	for _, s := range m.Sites {
		if s.Domain.String() == "" {
			wrong("a site needs a domain")
		}
		if seen[s.Domain.String()] {
			wrong("the domain %s stands twice", s.Domain)
		}
		seen[s.Domain.String()] = true
		if !validRoot(s.Root) {
			wrong("document root %q is not a plain path below the home", s.Root)
		}
	}
	return errors.Join(errs...)
}

// validRoot accepts relative paths of plain names only: no "..", no hidden
// directory, nothing that any configuration language would read as syntax.
func validRoot(root string) bool {
	if root == "" || len(root) > 512 || path.Clean(root) != root {
		return false
	}
	for dir := root; dir != "."; dir = path.Dir(dir) {
		if !rootPart.MatchString(path.Base(dir)) {
			return false
		}
	}
	return true
}

// firstUID is added to an account's number to get its user's: above every
// range that Debian hands out by itself, never used twice, the same on every server.
const firstUID = 1_000_000

// UID is the number of the account's system user and of its group. It is also
// the mark by which the agent knows what is the account's own.
func (m Manifest) UID() int { return firstUID + int(m.AccountID) }
