// Package btrfs asks the kernel about subvolumes and quota groups of one btrfs file system, and has
// it change them: by number, never by path or name, as both are the customer's to choose. What is
// below a subvolume is found in the file system's own trees, so nothing that lies in a home can
// mislead or stop it.
//
// The requests and structures are those of linux/btrfs.h and linux/btrfs_tree.h.
package btrfs

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// FS is a file system that is open for requests. It is safe for concurrent use.
type FS struct{ dir *os.File }

// ErrNoQuota says that quota is not switched on (btrfs quota enable).
var ErrNoQuota = errors.New("btrfs: quota is not switched on")

// Open opens the file system that a directory is on. It fails with errors.ErrUnsupported for
// another kind of file system, and with [ErrNoQuota] where nothing is counted.
func Open(dir string) (*FS, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	var s unix.Statfs_t
	err = unix.Fstatfs(int(f.Fd()), &s)
	if err == nil && s.Type != unix.BTRFS_SUPER_MAGIC {
		err = errors.ErrUnsupported
	}
	fs := &FS{dir: f}
	if err == nil {
		found := false
		err = fs.search(quotaTree, key{0, statusItem, 0}, key{0, statusItem, all}, func(key, []byte) bool {
			found = true
			return false
		})
		if errors.Is(err, unix.ENOENT) || err == nil && !found {
			err = ErrNoQuota
		}
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", dir, err)
	}
	return fs, nil
}

// Sync has everything that was written counted.
func (fs *FS) Sync() error { return unix.Syncfs(int(fs.dir.Fd())) }

// The requests (BTRFS_IOC_…).
const (
	qgroupAssign  = 0x40189429
	qgroupCreate  = 0x4010942a
	qgroupLimit   = 0x8030942b
	quotaRescan   = 0x4040942c
	subvolCreate2 = 0x50009418
	snapDestroy2  = 0x5000943f
	treeSearch2   = 0xc0709411
	inoLookup     = 0xd0009412
)

// Trees, and kinds of items in them.
const (
	rootTree  = 1 // BTRFS_ROOT_TREE_OBJECTID
	quotaTree = 8 // BTRFS_QUOTA_TREE_OBJECTID

	inodeItem    = 1
	rootItem     = 132
	rootRef      = 156 // of a subvolume, the offset is one that lies in it
	statusItem   = 240
	infoItem     = 242
	limitItem    = 244
	relationItem = 246

	firstFree = 256 // BTRFS_FIRST_FREE_OBJECTID: the number of the top directory of every subvolume
)

// ioctl makes a request with a structure.
func (fs *FS) ioctl(request uintptr, arg unsafe.Pointer) (uintptr, error) {
	return ioctl(fs.dir, request, arg)
}

func ioctl(f *os.File, request uintptr, arg unsafe.Pointer) (uintptr, error) {
	n, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, uintptr(arg))
	if errno != 0 {
		return n, errno
	}
	return n, nil
}

// key is the key of an item.
type key struct {
	object uint64
	kind   uint32
	offset uint64
}

// all is the greatest number and the greatest offset.
const all = ^uint64(0)

// searchArgs is struct btrfs_ioctl_search_args_v2 with room for what is found.
type searchArgs struct {
	tree                     uint64
	minObject, maxObject     uint64
	minOffset, maxOffset     uint64
	minTransact, maxTransact uint64
	minType, maxType         uint32
	items, _                 uint32
	_                        [4]uint64
	size                     uint64
	buffer                   [64 << 10]byte
}

// searches are used again: a sweep makes thousands, most of them for one item.
var searches = sync.Pool{New: func() any { return new(searchArgs) }}

// search calls found for the items of a kind from one key to another, in the order of the tree,
// until it returns false (BTRFS_IOC_TREE_SEARCH_V2). Keys are compared as a whole, object first, so
// what lies between two objects may be of any kind; that is left out.
func (fs *FS) search(tree uint64, from, to key, found func(key, []byte) bool) error {
	const header = 32
	args := searches.Get().(*searchArgs)
	defer searches.Put(args)
	args.tree, args.maxTransact = tree, all
	args.minObject, args.minType, args.minOffset = from.object, from.kind, from.offset
	args.maxObject, args.maxType, args.maxOffset = to.object, to.kind, to.offset
	for {
		args.items, args.size = ^uint32(0), uint64(len(args.buffer))
		if _, err := fs.ioctl(treeSearch2, unsafe.Pointer(args)); err != nil {
			return fmt.Errorf("btrfs: search tree %d: %w", tree, err)
		}
		if args.items == 0 {
			return nil
		}
		at := 0
		var last key
		for range args.items {
			item := args.buffer[at:]
			last = key{binary.NativeEndian.Uint64(item[8:]), binary.NativeEndian.Uint32(item[24:]),
				binary.NativeEndian.Uint64(item[16:])}
			length := int(binary.NativeEndian.Uint32(item[28:]))
			if last.kind == from.kind && !found(last, item[header:header+length]) {
				return nil
			}
			at += header + length
		}
		args.minObject, args.minType, args.minOffset = last.object, last.kind, last.offset+1
		if args.minOffset == 0 {
			if args.minType++; args.minType > 255 {
				args.minObject, args.minType = args.minObject+1, 0
			}
		}
	}
}

// Subvolume returns the number of the subvolume of which an open directory is the top; it fails
// for any other directory (BTRFS_IOC_INO_LOOKUP).
func Subvolume(dir *os.File) (uint64, error) {
	var s unix.Stat_t
	if err := unix.Fstat(int(dir.Fd()), &s); err != nil {
		return 0, err
	}
	if s.Ino != firstFree {
		return 0, fmt.Errorf("%s is not a subvolume", dir.Name())
	}
	var args struct {
		tree, object uint64
		_            [4080]byte
	}
	args.object = firstFree
	if _, err := ioctl(dir, inoLookup, unsafe.Pointer(&args)); err != nil {
		return 0, fmt.Errorf("number of the subvolume %s: %w", dir.Name(), err)
	}
	return args.tree, nil
}

// volArgs is struct btrfs_ioctl_vol_args_v2.
type volArgs struct {
	fd       int64
	transact uint64
	flags    uint64
	size     uint64 // of inherit
	inherit  unsafe.Pointer
	_        [2]uint64
	name     [4040]byte
}

// inherit is struct btrfs_qgroup_inherit, with one group.
type inherit struct {
	flags, groups, copies, exclusive uint64
	limits                           [5]uint64
	group                            uint64
}

// Create makes a subvolume in an open directory of the file system, counted in a group from the
// first byte (BTRFS_IOC_SUBVOL_CREATE_V2).
func Create(dir *os.File, name string, group Group) error {
	if len(name) == 0 || len(name) > 255 {
		return fmt.Errorf("btrfs: no subvolume can be named %q", name)
	}
	const inherits = 1 << 2 // BTRFS_SUBVOL_QGROUP_INHERIT
	in := &inherit{groups: 1, group: uint64(group)}
	args := &volArgs{flags: inherits, size: uint64(unsafe.Sizeof(*in)), inherit: unsafe.Pointer(in)}
	copy(args.name[:], name)
	if _, err := ioctl(dir, subvolCreate2, unsafe.Pointer(args)); err != nil {
		return fmt.Errorf("make the subvolume %s in %s: %w", name, dir.Name(), err)
	}
	return nil
}

// Below lists the subvolumes that lie in one, however deep, each behind
// all that it lies in.
func (fs *FS) Below(id uint64) ([]uint64, error) {
	var list []uint64
	for next := []uint64{id}; len(next) > 0; next = next[1:] {
		err := fs.search(rootTree, key{next[0], rootRef, 0}, key{next[0], rootRef, all}, func(k key, _ []byte) bool {
			list, next = append(list, k.offset), append(next, k.offset)
			return true
		})
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Delete deletes a subvolume with all that lies in it. What makes subvolumes there must have ended:
// one that is made meanwhile makes it fail with ENOTEMPTY. A group over its limit would, too
// (EDQUOT); see [FS.SetLimit].
func (fs *FS) Delete(id uint64) error {
	below, err := fs.Below(id)
	if err != nil {
		return err
	}
	const byID = 1 << 4 // BTRFS_SUBVOL_SPEC_BY_ID
	for _, one := range slices.Backward(append([]uint64{id}, below...)) {
		args := &volArgs{flags: byID}
		binary.NativeEndian.PutUint64(args.name[:], one)
		if _, err := fs.ioctl(snapDestroy2, unsafe.Pointer(args)); err != nil && !errors.Is(err, unix.ENOENT) {
			return fmt.Errorf("delete subvolume %d: %w", one, err)
		}
	}
	return nil
}

// Generations returns, for each subvolume, a number that rises whenever
// something in it was changed and is on the disk.
func (fs *FS) Generations() (map[uint64]uint64, error) {
	list := map[uint64]uint64{}
	err := fs.search(rootTree, key{firstFree, rootItem, 0}, key{all, rootItem, all}, func(k key, item []byte) bool {
		const generation = 160 // behind an inode item
		if len(item) >= generation+8 {
			list[k.object] = binary.LittleEndian.Uint64(item[generation:])
		}
		return true
	})
	return list, err
}

// Files counts the files and directories of a subvolume, its top and those of subvolumes in it not
// included. It reads the whole tree: some second for a million files.
func (fs *FS) Files(id uint64) (int64, error) {
	count := int64(0)
	err := fs.search(id, key{firstFree + 1, inodeItem, 0}, key{all - 255, inodeItem, 0}, func(k key, item []byte) bool {
		const links = 40
		if len(item) >= links+4 && binary.LittleEndian.Uint32(item[links:]) > 0 {
			count++
		}
		return true
	})
	return count, err
}

// Group is the number of a quota group. That of a subvolume has the subvolume's number.
type Group uint64

// Account is the group that counts everything of the account with a system
// user's number: a group of level 1 (btrfs-qgroup(8)), in which those of
// subvolumes are members.
func Account(uid int) Group { return Group(1<<48 | uint64(uid)) }

// level1 reports whether a group counts an account, and which one.
func (g Group) level1() (uid int, is bool) { return int(g & (1<<48 - 1)), g>>48 == 1 }

// Usage is what a group counts.
type Usage struct {
	Bytes int64
	// Limit is the most that it may count; nil is unlimited.
	Limit *int64
}

// Accounts returns what the groups of all accounts count, by the number of the system user.
func (fs *FS) Accounts() (map[int]Usage, error) {
	list := map[int]Usage{}
	first, last := uint64(Account(0)), uint64(Account(1<<31))
	err := fs.search(quotaTree, key{0, infoItem, first}, key{0, infoItem, last}, func(k key, item []byte) bool {
		if uid, is := Group(k.offset).level1(); is && len(item) >= 16 {
			list[uid] = Usage{Bytes: int64(binary.LittleEndian.Uint64(item[8:]))}
		}
		return true
	})
	if err != nil {
		return nil, err
	}
	return list, fs.search(quotaTree, key{0, limitItem, first}, key{0, limitItem, last}, func(k key, item []byte) bool {
		if uid, is := Group(k.offset).level1(); is {
			u := list[uid]
			u.Limit = limitOf(item)
			list[uid] = u
		}
		return true
	})
}

// Limit reads a group's limit; nil is unlimited, as it is for a group that is not there.
func (fs *FS) Limit(g Group) (limit *int64, err error) {
	err = fs.search(quotaTree, key{0, limitItem, uint64(g)}, key{0, limitItem, uint64(g)},
		func(_ key, item []byte) bool {
			limit = limitOf(item)
			return false
		})
	return limit, err
}

// limitOf reads struct btrfs_qgroup_limit_item.
func limitOf(item []byte) *int64 {
	const maxReferenced = 1 << 0 // BTRFS_QGROUP_LIMIT_MAX_RFER
	if len(item) < 16 || binary.LittleEndian.Uint64(item)&maxReferenced == 0 {
		return nil
	}
	bytes := int64(binary.LittleEndian.Uint64(item[8:]))
	return &bytes
}

// SetLimit bounds what a group may count; nil lifts the bound. The group must be there.
func (fs *FS) SetLimit(g Group, bytes *int64) error {
	args := struct {
		group, flags, maxReferenced uint64
		_                           [3]uint64
	}{group: uint64(g), flags: 1, maxReferenced: all} // all clears it (BTRFS_QGROUP_LIMIT_CLEAR_VALUE)
	if bytes != nil {
		args.maxReferenced = uint64(*bytes)
	}
	if _, err := fs.ioctl(qgroupLimit, unsafe.Pointer(&args)); err != nil {
		return fmt.Errorf("limit of quota group %d/%d: %w", g>>48, g&(1<<48-1), err)
	}
	return nil
}

// AddGroup makes a group; one that is there stays.
func (fs *FS) AddGroup(g Group) error {
	if err := fs.group(g, 1); err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("make quota group %d/%d: %w", g>>48, g&(1<<48-1), err)
	}
	return nil
}

// RemoveGroup removes a group without members; none is none.
func (fs *FS) RemoveGroup(g Group) error {
	if err := fs.group(g, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("remove quota group %d/%d: %w", g>>48, g&(1<<48-1), err)
	}
	return nil
}

func (fs *FS) group(g Group, create uint64) error {
	args := struct{ create, group uint64 }{create, uint64(g)}
	_, err := fs.ioctl(qgroupCreate, unsafe.Pointer(&args))
	return err
}

// Members lists the groups that are counted in a group, or that a subvolume's is counted in.
func (fs *FS) Members(g Group) ([]Group, error) {
	var list []Group
	err := fs.search(quotaTree, key{uint64(g), relationItem, 0}, key{uint64(g), relationItem, all},
		func(k key, _ []byte) bool {
			list = append(list, Group(k.offset))
			return true
		})
	return list, err
}

// Assign counts a subvolume in a group as well. What is in the subvolume already is counted by a
// rescan, which is begun where it is needed, and ends by itself.
func (fs *FS) Assign(subvolume uint64, g Group) error {
	unsure, err := fs.relate(subvolume, g, 1)
	if errors.Is(err, unix.EEXIST) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("count subvolume %d in quota group %d/%d: %w", subvolume, g>>48, g&(1<<48-1), err)
	}
	if !unsure {
		return nil
	}
	var args [8]uint64
	if _, err := fs.ioctl(quotaRescan, unsafe.Pointer(&args)); err != nil && !errors.Is(err, unix.EINPROGRESS) {
		return fmt.Errorf("count quota groups anew: %w", err)
	}
	return nil
}

// Release takes a subvolume out of a group.
func (fs *FS) Release(subvolume uint64, g Group) error {
	if _, err := fs.relate(subvolume, g, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("take subvolume %d out of quota group %d/%d: %w", subvolume, g>>48, g&(1<<48-1), err)
	}
	return nil
}

// relate reports whether the counts need a rescan.
func (fs *FS) relate(subvolume uint64, g Group, assign uint64) (unsure bool, err error) {
	args := struct{ assign, member, group uint64 }{assign, subvolume, uint64(g)}
	n, err := fs.ioctl(qgroupAssign, unsafe.Pointer(&args))
	return n == 1, err
}
