// Package manifest defines what one server must hold for one account. It is
// the table of contents of everything an account can have on a server: each
// part of the product adds one field here.
package manifest

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"victualler/internal/hosting/logins"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/sites"
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
	// Closed says that the account is no more on any server: Absent alone may be what has only gone
	// from this one.
	Closed bool `json:"closed,omitempty"`
	// Elsewhere says that the account's home is on another server: of
	// the parts below, only zones, mail and databases are here.
	Elsewhere bool `json:"elsewhere,omitempty"`
	// Suspended says that the sites show a notice instead of their content; everything stays.
	Suspended bool `json:"suspended,omitempty"`
	// Brand is how the pages that the server itself shows for the account's sites look.
	Brand Brand `json:"brand,omitzero"`
	// Language is that of these pages (RFC 5646); empty is English.
	Language string `json:"language,omitempty"`
	Home     Home   `json:"home"`
	PHP      PHP    `json:"php"`
	// Sandbox bounds everything that runs for the account.
	Sandbox Sandbox `json:"sandbox,omitzero"`
	Sites   []Site  `json:"sites"`
	// Logins are the sign-ins for file transfer: the account's own, and further ones.
	Logins []logins.Login `json:"logins,omitempty"`
	// Shell gives the account's own sign-in a shell instead of file transfer alone.
	Shell bool `json:"shell,omitempty"`
	// Zones are those that the server answers for as their primary.
	Zones []Zone `json:"zones,omitempty"`
	// Mail is the account's mail, which may be on another server than its home; nil where none is
	// here.
	Mail *Mail `json:"mail,omitempty"`
	// SendsBy is the server that what the account's sites send goes through, where that is another
	// one than this, on which the sites are.
	SendsBy *SendsBy `json:"sends_by,omitempty"`
	// Databases are those that are on this server, which may be another one than the home's; nil
	// where none are.
	Databases *Databases `json:"databases,omitempty"`
}

// HasHome reports whether the account has its home on this server: user, files, PHP and sites.
func (m Manifest) HasHome() bool { return m.Wanted == Present && !m.Elsewhere }

// Brand is whose pages they are that a server shows instead of a site's own.
type Brand struct {
	Title  string `json:"title,omitempty"`
	Footer string `json:"footer,omitempty"`
	// Accent is a colour such as #1f5f7a; empty is the usual one.
	Accent string `json:"accent,omitempty"`
}

var (
	colour = regexp.MustCompile(`^#[0-9a-f]{6}$`)
	label  = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)
)

// Check refuses a brand that must not reach a server's files.
func (b Brand) Check() error {
	for _, text := range []string{b.Title, b.Footer} {
		if len(text) > 1000 || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool {
			return unicode.IsControl(r) && r != '\n' && r != '\r' && r != '\t'
		}) {
			return fmt.Errorf("brand: %q cannot be shown", text)
		}
	}
	if b.Accent != "" && !colour.MatchString(b.Accent) {
		return fmt.Errorf("brand: %q is no colour", b.Accent)
	}
	return nil
}

// Home is the account's directory.
type Home struct {
	// DiskLimit is the most the home may hold, in bytes; nil is unlimited.
	DiskLimit *int64 `json:"disk_limit"`
	// FilesLimit is the most files and directories; nil is unlimited.
	FilesLimit *int64 `json:"files_limit,omitempty"`
}

// PHP tells how the account's PHP runs: one process manager for each
// version, as the account's own user.
type PHP struct {
	// Workers is how many requests are served at the same time, at least 1.
	Workers int `json:"workers"`
}

// Sandbox bounds everything that runs for the account, together; nil is unlimited.
type Sandbox struct {
	// Processes is the most processes and threads.
	Processes *int64 `json:"processes,omitempty"`
	// Memory is the most memory, in bytes.
	Memory *int64 `json:"memory,omitempty"`
	// CPU is the most processor time, in percent of one processor.
	CPU *int64 `json:"cpu,omitempty"`
}

// Site is one virtual host.
type Site struct {
	// Domain is the site's main name. The site answers for it and for "www." before it.
	Domain names.Domain `json:"domain"`
	// Redirect sends all visitors elsewhere; the members below are then empty.
	Redirect *sites.Redirection `json:"redirect,omitempty"`
	// MirrorOf is the domain whose content is shown; empty for a site of its own.
	MirrorOf string `json:"mirror_of,omitempty"`
	// Root is the document root, relative to the home, such as "sites/ferries.example".
	Root string `json:"root,omitempty"`
	// MovedFrom is a former document root whose files are wanted at
	// Root, if there is nothing there yet.
	MovedFrom string `json:"moved_from,omitempty"`
	// Starter asks for a page that says the site is ready, if the
	// document root is empty or missing.
	Starter  bool           `json:"starter,omitempty"`
	Switches sites.Switches `json:"switches,omitzero"`
	Folders  []sites.Folder `json:"folders,omitempty"`
	// RawRefused is why the server has left the raw directives out: it keeps manifests with it, and
	// gets none.
	RawRefused string `json:"raw_refused,omitempty"`
	// Busy says that so many visit the site that its certificate is to be at hand (package visits).
	// It is the server's own, too.
	Busy bool `json:"busy,omitempty"`
	// Certificate is the one that the site shows; without, the server
	// makes one that it signs itself.
	Certificate *Certificate `json:"certificate,omitempty"`
	// Mail is what mail programs and other servers are told about the domain's mail; nil is
	// nothing.
	Mail *SiteMail `json:"mail,omitempty"`
}

// SiteMail is what mail programs and other servers are told about a domain's mail, under names
// below the domain.
type SiteMail struct {
	// Server is where mail programs read and send, and others deliver.
	Server names.Domain `json:"server"`
	// Policy asks others to deliver with TLS alone (RFC 8461).
	Policy bool `json:"policy,omitempty"`
	// Names are those that it is told under.
	Names []string `json:"names"`
}

// UnmarshalJSON reads a site. A setting that is not in it, because
// whoever wrote it did not know it yet, has its default.
func (s *Site) UnmarshalJSON(text []byte) error {
	type plain Site
	read := plain{Switches: sites.Defaults()}
	if err := json.Unmarshal(text, &read); err != nil {
		return err
	}
	if read.Redirect != nil {
		read.Switches = sites.Switches{}
	}
	*s = Site(read)
	return nil
}

// Names returns every name the site answers for.
func (s Site) Names() []string { return []string{s.Domain.String(), s.WWW()} }

// MailNames are those under which the site's domain tells of its mail.
func (s Site) MailNames() []string {
	if s.Mail == nil {
		return nil
	}
	return s.Mail.Names
}

// WWW is the name with "www." before it.
func (s Site) WWW() string { return "www." + s.Domain.String() }

// PHPSites lists the sites in whose directories PHP runs: each directory once.
func (m Manifest) PHPSites() []Site {
	var list []Site
	for _, s := range m.Sites {
		if s.Redirect == nil && s.MirrorOf == "" && s.Switches.PHP {
			list = append(list, s)
		}
	}
	return list
}

// HomePath returns the home's absolute path on every server.
func (m Manifest) HomePath() string { return "/home/" + m.SignInName }

// RootFor proposes the document root for a domain.
func RootFor(d names.Domain) string { return "sites/" + d.String() }

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
		if len(m.Sites) > 0 || len(m.Zones) > 0 || len(m.Logins) > 0 || m.Mail != nil ||
			m.Databases != nil {
			wrong("an absent account has no sites, zones, logins, mail and databases")
		}
		return errors.Join(errs...)
	}
	if m.Wanted != Present {
		wrong("wanted must be present or absent")
	}
	errs = append(errs, checkZones(m.Zones), m.Mail.check(), m.SendsBy.check(), m.Databases.check(m.SignInName))
	if m.Elsewhere {
		if len(m.Sites) > 0 || len(m.Logins) > 0 {
			wrong("an account whose home is elsewhere has no sites and no logins here")
		}
		return errors.Join(errs...)
	}
	if m.PHP.Workers < 1 || m.PHP.Workers > 500 {
		wrong("php.workers must be from 1 to 500")
	}
	for _, limit := range []*int64{m.Sandbox.Processes, m.Sandbox.Memory, m.Sandbox.CPU} {
		if limit != nil && *limit <= 0 {
			wrong("the limits of the sandbox must be above 0")
		}
	}
	if m.Home.FilesLimit != nil && *m.Home.FilesLimit < 0 {
		wrong("home.files_limit cannot be negative")
	}
	if m.Home.DiskLimit != nil && *m.Home.DiskLimit < 0 {
		wrong("home.disk_limit cannot be negative")
	}
	if err := m.Brand.Check(); err != nil {
		errs = append(errs, err)
	}
	seen := map[string]bool{}
	for _, l := range m.Logins {
		if err := l.Check(m.SignInName); err != nil {
			errs = append(errs, err)
		}
		if seen[l.Name] {
			wrong("the login %s is listed twice", l.Name)
		}
		seen[l.Name] = true
	}
	for _, s := range m.Sites {
		if s.Domain.String() == "" {
			wrong("a site needs a domain")
		}
		if seen[s.Domain.String()] {
			wrong("the domain %s is listed twice", s.Domain)
		}
		seen[s.Domain.String()] = true
		if s.Certificate != nil {
			if err := s.Certificate.Check(); err != nil {
				wrong("%s: certificate: %w", s.Domain, err)
			}
		}
		if s.Redirect != nil {
			if err := s.Redirect.Check(); err != nil {
				wrong("%s: %w", s.Domain, err)
			}
			continue
		}
		wrongRoot := sites.CheckRoot(s.Root)
		if s.MovedFrom != "" {
			wrongRoot = errors.Join(wrongRoot, sites.CheckRoot(s.MovedFrom))
		}
		if err := errors.Join(wrongRoot, s.Switches.Check(),
			sites.CheckRaw(s.Switches.Raw)); err != nil {
			wrong("%s: %w", s.Domain, err)
		}
		protected := map[string]bool{}
		for _, f := range s.Folders {
			if err := f.Check(); err != nil {
				wrong("%s: folder %q: %w", s.Domain, f.Path, err)
			}
			if protected[f.Path] {
				wrong("%s: folder %q is listed twice", s.Domain, f.Path)
			}
			protected[f.Path] = true
		}
	}
	return errors.Join(errs...)
}

// firstUID is added to an account's number to get its user's: above every
// range that Debian hands out by itself, never used twice, the same on every server.
const firstUID = 1_000_000

// UID is the number of the account's system user and of its group. It is also
// the mark by which the agent knows what is the account's own.
func (m Manifest) UID() int { return UIDOf(m.AccountID) }

// UIDOf is [Manifest.UID] of the account of a number.
func UIDOf(account int64) int { return firstUID + int(account) }

// AccountOfMailUID is the account whose mail belongs to a user number, if one has it.
func AccountOfMailUID(uid int) (account int64, is bool) {
	return int64(uid - firstMailUID), uid > firstMailUID
}

// AccountOfUID is the account whose user has a number, if one has.
func AccountOfUID(uid int) (account int64, is bool) {
	return int64(uid - firstUID), uid > firstUID && uid < firstMailUID
}
