package home

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"victualler/internal/agent/btrfs"
	"victualler/internal/agentlink"
)

// subvolumes keeps limits in a btrfs file system: each home is a subvolume, and a quota group of
// each account counts it together with every other subvolume of the account. A write beyond the
// limit fails with EDQUOT.
type subvolumes struct {
	fs *btrfs.FS

	mu sync.Mutex
	// counted remembers files of subvolumes, as it takes long to count them.
	counted map[uint64]counted
}

// counted are the files of a subvolume when it was last changed.
type counted struct {
	generation uint64
	files      int64
}

func (*subvolumes) kind() string { return "btrfs" }

func (*subvolumes) enforcesLimits() bool { return true }

func (*subvolumes) unit() int64 { return 1 }

func (d *subvolumes) create(path string, uid int) error {
	if err := d.fs.AddGroup(btrfs.Account(uid)); err != nil {
		return err
	}
	parent, err := openDir(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer parent.Close()
	return btrfs.Create(parent, filepath.Base(path), btrfs.Account(uid))
}

// adopt counts the home and what lies in it. A home of earlier versions had its limit on itself
// alone: that is lifted once the account's counts.
func (d *subvolumes) adopt(path string, uid int) error {
	all, err := d.of(path)
	if err != nil {
		return err
	}
	group := btrfs.Account(uid)
	members, err := d.fs.Members(group)
	if err != nil {
		return err
	}
	if err := d.fs.AddGroup(group); err != nil {
		return err
	}
	for _, id := range all {
		if slices.Contains(members, btrfs.Group(id)) {
			continue
		}
		if err := d.fs.Assign(id, group); err != nil {
			return err
		}
	}
	own, err := d.fs.Limit(btrfs.Group(all[0]))
	if err != nil || own == nil {
		return err
	}
	return errors.Join(d.fs.SetLimit(group, own), d.fs.SetLimit(btrfs.Group(all[0]), nil))
}

// of lists the numbers of a home's subvolume and of those that lie in it.
func (d *subvolumes) of(path string) ([]uint64, error) {
	home, err := openDir(path)
	if err != nil {
		return nil, err
	}
	defer home.Close()
	id, err := btrfs.Subvolume(home)
	if err != nil {
		return nil, err
	}
	below, err := d.fs.Below(id)
	return append([]uint64{id}, below...), err
}

func (d *subvolumes) limit(uid int) (*int64, error) { return d.fs.Limit(btrfs.Account(uid)) }

func (d *subvolumes) setLimit(uid int, bytes *int64) error {
	if err := d.fs.AddGroup(btrfs.Account(uid)); err != nil {
		return err
	}
	return d.fs.SetLimit(btrfs.Account(uid), bytes)
}

// used also finds the subvolumes that somebody has made in homes, and has them counted.
func (d *subvolumes) used(ctx context.Context) (map[string]agentlink.Usage, error) {
	if err := d.fs.Sync(); err != nil { // what is not on the disk yet is not counted yet
		return nil, err
	}
	accounts, err := d.fs.Accounts()
	if err != nil {
		return nil, err
	}
	generations, err := d.fs.Generations()
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(Dir)
	if err != nil {
		return nil, err
	}
	used := map[string]agentlink.Usage{}
	for _, e := range entries {
		path := filepath.Join(Dir, e.Name())
		found, err := stat(path)
		if err != nil || found == nil || !e.IsDir() {
			continue
		}
		counted, known := accounts[int(found.Gid)]
		if !known {
			continue
		}
		all, err := d.of(path)
		if err != nil {
			continue
		}
		if len(all) > 1 {
			if err := d.adopt(path, int(found.Gid)); err != nil {
				return nil, err
			}
		}
		files := int64(len(all) - 1)
		for _, id := range all {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			n, err := d.files(id, generations[id])
			if err != nil {
				return nil, err
			}
			files += n
		}
		used[e.Name()] = agentlink.Usage{Bytes: counted.Bytes, Files: &files}
	}
	d.forget(generations)
	return withMail(ctx, used, func(_ string, uid int, home agentlink.Usage) (agentlink.Usage, error) {
		return agentlink.Usage{Bytes: accounts[uid].Bytes, Files: home.Files}, nil
	})
}

// files counts the files of a subvolume, unless nothing has changed in it.
func (d *subvolumes) files(id, generation uint64) (int64, error) {
	d.mu.Lock()
	last, known := d.counted[id]
	d.mu.Unlock()
	if known && generation != 0 && last.generation == generation {
		return last.files, nil
	}
	n, err := d.fs.Files(id)
	if err != nil {
		return 0, err
	}
	d.mu.Lock()
	d.counted[id] = counted{generation, n}
	d.mu.Unlock()
	return n, nil
}

// forget drops the counts of subvolumes that are gone.
func (d *subvolumes) forget(there map[uint64]uint64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id := range d.counted {
		if _, is := there[id]; !is {
			delete(d.counted, id)
		}
	}
}

// remove lifts the limit first: deleting needs room, too.
func (d *subvolumes) remove(path string, uid int) error {
	group := btrfs.Account(uid)
	if err := d.fs.AddGroup(group); err != nil {
		return err
	}
	if err := d.fs.SetLimit(group, nil); err != nil {
		return err
	}
	all, err := d.of(path)
	if err != nil {
		// The home is no subvolume: somebody has put a plain directory there.
		return os.RemoveAll(path)
	}
	if err := d.fs.SetLimit(btrfs.Group(all[0]), nil); err != nil {
		return err
	}
	if err := d.fs.Delete(all[0]); err != nil {
		return err
	}
	members, err := d.fs.Members(group)
	if err != nil {
		return err
	}
	for _, m := range members {
		if err := d.fs.Release(uint64(m), group); err != nil {
			return err
		}
	}
	return d.fs.RemoveGroup(group)
}

// removeBeside leaves the account's group to the home, if there is one.
func (d *subvolumes) removeBeside(path string, uid int) error {
	dir, err := openDir(path)
	if err != nil {
		return err
	}
	id, err := btrfs.Subvolume(dir)
	dir.Close()
	if err != nil { // somebody has put a plain directory there
		return os.RemoveAll(path)
	}
	if err := d.fs.Delete(id); err != nil {
		return err
	}
	group := btrfs.Account(uid)
	members, err := d.fs.Members(group)
	if err != nil {
		return err
	}
	if slices.Contains(members, btrfs.Group(id)) {
		if err := d.fs.Release(id, group); err != nil {
			return err
		}
	}
	if len(members) > 1 || len(members) == 1 && members[0] != btrfs.Group(id) {
		return nil
	}
	return d.fs.RemoveGroup(group)
}
