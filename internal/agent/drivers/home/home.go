// Package home drives homes: the account's directory, its disk limit, and the
// layout below it.
//
//	/home/NAME        root:NAME 0750, and execute for the web server by ACL: the
//	                  account lists it but cannot replace what is in it; no other account gets in
//	/home/NAME/sites  NAME:NAME 0755, document roots
//	/home/NAME/tmp    NAME:NAME 0700, PHP's uploads and sessions
//	/home/NAME/logs   root:NAME 0750, access logs of the sites
package home

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/asuser"
	"victualler/internal/agent/btrfs"
	"victualler/internal/agent/processes"
	"victualler/internal/agent/projectquota"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// Dir is where homes are.
const Dir = "/home"

// webUser is the user of the web server's workers on Debian.
const webUser = "www-data"

// layout is what is in every home, made by root because the home itself is
// root's; below, only the account's user works.
var layout = []struct {
	name string
	mode fs.FileMode
	// roots says that only root writes there; the account reads.
	roots bool
}{{"sites", 0o755, false}, {"tmp", 0o700, false}, {"logs", 0o750, true}}

// Driver makes and removes homes. Make one with [New].
type Driver struct {
	disk   disk
	webUID uint32

	mu sync.Mutex
	// held are accounts with more files than they may have, by the
	// number of their user: what they hold in bytes is the most that
	// they may hold. full are accounts that have next to no room left.
	held map[int]int64
	full map[int]bool
}

// New finds out how limits can be kept on the file system of the homes.
func New() (*Driver, error) {
	web, err := user.Lookup(webUser)
	if err != nil {
		return nil, fmt.Errorf("the web server's user: %w", err)
	}
	uid, err := strconv.ParseUint(web.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	d := &Driver{disk: metered{}, webUID: uint32(uid), held: map[int]int64{}, full: map[int]bool{}}
	fs, err := btrfs.Open(Dir)
	switch {
	case err == nil:
		d.disk = &subvolumes{fs: fs, counted: map[uint64]counted{}}
	case !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, btrfs.ErrNoQuota):
		return nil, err
	default:
		counting, err := projectquota.Open(Dir)
		if err == nil {
			d.disk = projects{counting}
		} else if !errors.Is(err, projectquota.ErrNone) {
			return nil, err
		}
	}
	return d, nil
}

// Name implements agent.Resource.
func (*Driver) Name() string { return "home" }

// Concerns implements agent.Resource.
func (*Driver) Concerns(m manifest.Manifest) bool { return m.HasHome() }

// Quota implements agent.Meter.
func (d *Driver) Quota() string { return d.disk.kind() }

// Measure implements agent.Meter. No file system that is supported bounds the number of files of a
// btrfs subvolume or of a metered home, so this does: who has too many keeps the bytes that they
// hold as their limit until files are deleted.
func (d *Driver) Measure(ctx context.Context, all iter.Seq[manifest.Manifest]) (map[string]agentlink.Usage, error) {
	used, err := d.disk.used(ctx)
	if err != nil {
		return nil, err
	}
	for m := range all {
		usage, known := used[m.SignInName]
		if !known || !m.HasHome() {
			continue
		}
		uid := m.UID()
		over := m.Home.FilesLimit != nil && usage.Files != nil && *usage.Files > *m.Home.FilesLimit
		limit := m.Home.DiskLimit
		d.mu.Lock()
		if delete(d.full, uid); limit != nil && *limit-usage.Bytes < *limit/100 {
			d.full[uid] = true
		}
		before, was := d.held[uid]
		switch {
		case over && (!was || usage.Bytes < before):
			d.held[uid] = usage.Bytes
		case !over && was:
			delete(d.held, uid)
		}
		d.mu.Unlock()
		if over || was {
			if err := d.limitTo(uid, d.expected(m)); err != nil {
				return nil, err
			}
		}
	}
	return used, nil
}

// expected is the limit in bytes that an account is to have now, as the file system counts.
func (d *Driver) expected(m manifest.Manifest) *int64 {
	limit := m.Home.DiskLimit
	if !m.HasHome() && m.HasMail() {
		limit = m.Mail.DiskLimit
	}
	d.mu.Lock()
	if held, is := d.held[m.UID()]; is && (limit == nil || held < *limit) {
		limit = &held
	}
	d.mu.Unlock()
	if unit := d.disk.unit(); limit != nil && unit > 1 {
		rounded := max(unit, (*limit+unit-1)/unit*unit)
		limit = &rounded
	}
	return limit
}

// limitTo sets a limit that is not set yet.
func (d *Driver) limitTo(uid int, bytes *int64) error {
	now, err := d.disk.limit(uid)
	if err != nil || !d.disk.enforcesLimits() || same(now, bytes) {
		return err
	}
	return d.disk.setLimit(uid, bytes)
}

// Check implements agent.Resource.
func (d *Driver) Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	path := m.HomePath()
	var drifts []agentlink.Drift
	drift := func(subject, format string, args ...any) {
		drifts = append(drifts, agentlink.Drift{Part: d.Name(), Subject: subject,
			Detail: language.New(format, args...).Encode()})
	}
	found, err := stat(path)
	if err != nil {
		return nil, err
	}
	if !m.HasHome() {
		if found != nil && int(found.Gid) == m.UID() {
			drift(path, "is still there")
		}
		return drifts, nil
	}
	if found == nil {
		drift(path, "is missing")
		return drifts, nil
	}
	if int(found.Gid) != m.UID() {
		drift(path, "belongs to group %d, not %d: it is not this account's", found.Gid, m.UID())
		return drifts, nil
	}
	if found.Uid != 0 || !d.hasACL(path) {
		drift(path, "has other rights than it should")
	}
	for _, dir := range layout {
		inner := filepath.Join(path, dir.name)
		s, err := stat(inner)
		switch {
		case err != nil:
			return nil, err
		case s == nil:
			drift(inner, "is missing")
		case s.Mode&syscall.S_IFMT != syscall.S_IFDIR || int(s.Uid) != owner(dir.roots, m):
			drift(inner, "is not a directory of the user it should belong to")
		}
	}
	limits, err := d.checkLimit(m, d.Name(), path)
	return append(drifts, limits...), err
}

// checkLimit finds out whether an account has the limit that it is to have, for a part with a path.
func (d *Driver) checkLimit(m manifest.Manifest, part, path string) ([]agentlink.Drift, error) {
	limit, err := d.disk.limit(m.UID())
	if err != nil {
		return nil, err
	}
	expected := d.expected(m)
	if !d.disk.enforcesLimits() || same(limit, expected) {
		return nil, nil
	}
	return []agentlink.Drift{{Part: part, Subject: path,
		Detail: language.New("has a disk limit of %s, not %s", words(limit), words(expected)).Encode()}}, nil
}

// Ensure implements agent.Resource.
func (d *Driver) Ensure(ctx context.Context, m manifest.Manifest, known bool) (language.Text, error) {
	path := m.HomePath()
	found, err := stat(path)
	if err != nil {
		return language.Text{}, err
	}
	if found != nil && int(found.Gid) != m.UID() && !fresh(path, found) {
		return language.Text{}, fmt.Errorf("%s is on the server already and is not this account's; move it "+
			"away, or choose another sign-in name", path)
	}
	if err := d.make(ctx, m, found == nil); err != nil {
		if !known {
			return language.Text{}, err
		}
		// Whatever is asked for is not kept from the account by the state of its home. What is
		// missing is told as drift or as a warning, and made by a repair.
		return language.New("%s, not all as it should be: %s", path, err.Error()), nil
	}
	return language.New("%s, disk limit %s (%s)", path, words(d.expected(m)), d.disk.kind()), nil
}

// make makes the home and all that is in it; what fails does not keep the rest from being made.
func (d *Driver) make(ctx context.Context, m manifest.Manifest, create bool) error {
	path, uid := m.HomePath(), m.UID()
	var failed []error
	try := func(err error) { failed = append(failed, err) }
	if create {
		if err := d.disk.create(path, uid); err != nil {
			return err
		}
	} else {
		try(d.disk.adopt(path, uid))
	}
	try(d.limitTo(uid, d.expected(m)))
	try(os.Lchown(path, 0, uid))
	try(d.setACL(path))
	for _, dir := range layout {
		inner := filepath.Join(path, dir.name)
		if err := os.Mkdir(inner, dir.mode); err != nil && !errors.Is(err, fs.ErrExist) {
			try(err)
			continue
		}
		try(os.Lchown(inner, owner(dir.roots, m), uid))
	}
	work := asuser.Work{Home: path}
	for _, site := range m.Sites {
		if site.Redirect != nil || site.MirrorOf != "" {
			continue
		}
		if site.MovedFrom != "" {
			work.Moves = append(work.Moves, asuser.Move{From: site.MovedFrom, To: site.Root})
		}
		work.Directories = append(work.Directories, site.Root)
		if site.Starter {
			work.NewFiles = append(work.NewFiles, asuser.NewFile{Path: site.Root + "/index.html",
				Content: render.StarterPage(m, site)})
		}
	}
	try(asuser.Do(ctx, uid, work))
	return errors.Join(failed...)
}

func owner(roots bool, m manifest.Manifest) int {
	if roots {
		return 0
	}
	return m.UID()
}

// Remove implements agent.Resource.
func (d *Driver) Remove(ctx context.Context, m manifest.Manifest) error {
	found, err := stat(m.HomePath())
	if err != nil || found == nil {
		return err
	}
	if int(found.Gid) != m.UID() && !fresh(m.HomePath(), found) {
		return nil
	}
	// Nothing is to be put there while it is taken away.
	if err := processes.End(ctx, m.UID()); err != nil {
		return err
	}
	return d.disk.remove(m.HomePath(), m.UID())
}

// fresh recognizes a home whose making was cut off before it got its group:
// root's, and nothing in it.
func fresh(path string, found *syscall.Stat_t) bool {
	entries, err := os.ReadDir(path)
	return err == nil && found.Uid == 0 && found.Gid == 0 && len(entries) == 0
}

// stat does not follow links; it returns nil for what is not there.
func stat(path string) (*syscall.Stat_t, error) {
	var s syscall.Stat_t
	err := syscall.Lstat(path, &s)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &s, nil
}

const aclAttribute = "system.posix_acl_access"

// acl is the access list of a home (acl(5), in the layout of the kernel's
// posix_acl_xattr.h): u::rwx u:www-data:--x g::r-x m::r-x o::---
func (d *Driver) acl() []byte {
	const (
		none   = 0xffffffff
		userOf = 0x01 // ACL_USER_OBJ
		named  = 0x02 // ACL_USER
		group  = 0x04 // ACL_GROUP_OBJ
		mask   = 0x10 // ACL_MASK
		other  = 0x20 // ACL_OTHER
	)
	list := binary.LittleEndian.AppendUint32(nil, 2) // version
	for _, e := range []struct {
		tag, perm uint16
		id        uint32
	}{{userOf, 7, none}, {named, 1, d.webUID}, {group, 5, none}, {mask, 5, none}, {other, 0, none}} {
		list = binary.LittleEndian.AppendUint16(list, e.tag)
		list = binary.LittleEndian.AppendUint16(list, e.perm)
		list = binary.LittleEndian.AppendUint32(list, e.id)
	}
	return list
}

func (d *Driver) setACL(path string) error {
	if err := unix.Setxattr(path, aclAttribute, d.acl(), 0); err != nil {
		return fmt.Errorf("access list of %s: %w", path, err)
	}
	return nil
}

func (d *Driver) hasACL(path string) bool {
	found := make([]byte, 256)
	n, err := unix.Lgetxattr(path, aclAttribute, found)
	return err == nil && string(found[:n]) == string(d.acl())
}

func same(a, b *int64) bool { return (a == nil) == (b == nil) && (a == nil || *a == *b) }

func words(limit *int64) string {
	if limit == nil {
		return "unlimited"
	}
	return plans.FormatSize(*limit)
}
