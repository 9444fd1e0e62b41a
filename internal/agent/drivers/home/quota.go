package home

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// btrfs keeps limits in the file system: each home is a subvolume with a quota
// group of its own, and a write beyond the limit fails with EDQUOT.
type btrfs struct{}

// btrfsUsable reports whether homes are on btrfs with quota switched on.
func btrfsUsable() (bool, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(Dir, &s); err != nil {
		return false, fmt.Errorf("%s: %w", Dir, err)
	}
	if s.Type != unix.BTRFS_SUPER_MAGIC {
		return false, nil
	}
	_, err := run(context.Background(), "btrfs", "qgroup", "show", "--raw", Dir)
	return err == nil, nil
}

func (btrfs) kind() string { return "btrfs" }

func (btrfs) create(ctx context.Context, path string) error {
	_, err := run(ctx, "btrfs", "subvolume", "create", path)
	return err
}

// qgroup is a line of `btrfs qgroup show`.
type qgroup struct {
	used  int64
	limit *int64
}

// qgroups reads quota groups by the number of their subvolume: all of them, or
// that of one path.
func qgroups(ctx context.Context, path string, args ...string) (map[uint64]qgroup, error) {
	out, err := run(ctx, "btrfs", append(append([]string{"qgroup", "show", "-r", "--raw"}, args...), path)...)
	if err != nil {
		return nil, err
	}
	groups := map[uint64]qgroup{}
	for line := range strings.Lines(out) {
		fields := strings.Fields(line)
		if len(fields) < 4 {
			continue
		}
		level, id, found := strings.Cut(fields[0], "/")
		number, err := strconv.ParseUint(id, 10, 64)
		if !found || level != "0" || err != nil {
			continue
		}
		g := qgroup{}
		if g.used, err = strconv.ParseInt(fields[1], 10, 64); err != nil {
			continue
		}
		if most, err := strconv.ParseInt(fields[3], 10, 64); err == nil {
			g.limit = &most
		}
		groups[number] = g
	}
	return groups, nil
}

func (btrfs) limit(_ context.Context, path string) (*int64, error) {
	id, err := subvolume(path)
	if err != nil {
		return nil, err
	}
	return limitOf(path, id)
}

// limitOf reads the limit of a subvolume's quota group from the quota
// tree (BTRFS_IOC_TREE_SEARCH in linux/btrfs.h): a sweep asks for
// thousands, for each of which a program would take milliseconds.
func limitOf(path string, id uint64) (*int64, error) {
	const (
		treeSearch = 0xd0009411
		quotaTree  = 8   // BTRFS_QUOTA_TREE_OBJECTID
		limitItem  = 244 // BTRFS_QGROUP_LIMIT_KEY: objectid 0, offset the group
		maxRfer    = 1   // BTRFS_QGROUP_LIMIT_MAX_RFER
	)
	var args struct {
		tree                     uint64
		minObject, maxObject     uint64
		minOffset, maxOffset     uint64
		minTransact, maxTransact uint64
		minType, maxType         uint32
		items, unused            uint32
		unused4                  [4]uint64
		buffer                   [4096 - 104]byte
	}
	args.tree, args.minOffset, args.maxOffset, args.maxTransact = quotaTree, id, id, ^uint64(0)
	args.minType, args.maxType, args.items = limitItem, limitItem, 1
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), treeSearch,
		uintptr(unsafe.Pointer(&args))); errno != 0 {
		return nil, fmt.Errorf("quota group of %s: %w", path, errno)
	}
	if args.items == 0 {
		return nil, nil // a group without limits
	}
	const header = 32 // struct btrfs_ioctl_search_header
	item := args.buffer[header:]
	if flags := binary.LittleEndian.Uint64(item); flags&maxRfer == 0 {
		return nil, nil
	}
	most := int64(binary.LittleEndian.Uint64(item[8:]))
	return &most, nil
}

func (btrfs) setLimit(ctx context.Context, path string, bytes *int64) error {
	limit := "none"
	if bytes != nil {
		limit = strconv.FormatInt(*bytes, 10)
	}
	_, err := run(ctx, "btrfs", "qgroup", "limit", limit, path)
	return err
}

func (btrfs) used(ctx context.Context) (map[string]int64, error) {
	// What is not on the disk yet is not counted yet.
	top, err := os.Open(Dir)
	if err != nil {
		return nil, err
	}
	err = unix.Syncfs(int(top.Fd()))
	top.Close()
	if err != nil {
		return nil, err
	}
	groups, err := qgroups(ctx, Dir)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(Dir)
	if err != nil {
		return nil, err
	}
	used := map[string]int64{}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		if id, err := subvolume(filepath.Join(Dir, e.Name())); err == nil {
			if g, ok := groups[id]; ok {
				used[e.Name()] = g.used
			}
		}
	}
	return used, nil
}

// remove deletes the home's subvolume, and before it those that the customer
// has made below it: btrfs lets every user make some, and deletes none that holds others.
func (btrfs) remove(ctx context.Context, path string) error {
	out, err := run(ctx, "btrfs", "subvolume", "list", Dir)
	if err != nil {
		return err
	}
	var all []string
	for line := range strings.Lines(out) {
		if _, name, found := strings.Cut(strings.TrimSuffix(line, "\n"), " path "); found {
			if below := filepath.Join(Dir, name); below == path || strings.HasPrefix(below, path+"/") {
				all = append(all, below)
			}
		}
	}
	slices.SortFunc(all, func(a, b string) int { return len(b) - len(a) }) // what lies deeper has the longer path
	for _, subvolume := range all {
		if _, err := run(ctx, "btrfs", "subvolume", "delete", "--", subvolume); err != nil {
			return err
		}
	}
	return nil
}

// subvolume returns the number of the subvolume that path is the top of
// (BTRFS_IOC_INO_LOOKUP, linux/btrfs.h).
func subvolume(path string) (uint64, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_DIRECTORY, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	const (
		inoLookup   = 0xd0009412
		firstObject = 256 // BTRFS_FIRST_FREE_OBJECTID, every subvolume's top directory
	)
	var s syscall.Stat_t
	if err := syscall.Fstat(int(f.Fd()), &s); err != nil {
		return 0, err
	}
	if s.Ino != firstObject {
		return 0, fmt.Errorf("%s is not a subvolume", path)
	}
	var args struct {
		tree, object uint64
		name         [4080]byte
	}
	args.object = firstObject
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), inoLookup,
		uintptr(unsafe.Pointer(&args))); errno != 0 {
		return 0, fmt.Errorf("subvolume of %s: %w", path, errno)
	}
	return args.tree, nil
}

// metered is for file systems without limits: use is measured, and growth
// through Victualler is refused by the service; a write is not stopped.
type metered struct{}

func (metered) kind() string { return "metered" }

func (metered) create(_ context.Context, path string) error { return os.Mkdir(path, 0o700) }

func (metered) limit(context.Context, string) (*int64, error) { return nil, nil }

func (metered) setLimit(context.Context, string, *int64) error { return nil }

func (metered) used(context.Context) (map[string]int64, error) {
	entries, err := os.ReadDir(Dir)
	if err != nil {
		return nil, err
	}
	used := map[string]int64{}
	for _, e := range entries {
		if e.IsDir() {
			used[e.Name()] = measure(filepath.Join(Dir, e.Name()))
		}
	}
	return used, nil
}

// measure adds up the blocks of everything below a directory, without
// following links; what goes away meanwhile does not count.
func measure(dir string) int64 {
	var total int64
	root, err := os.OpenRoot(dir)
	if err != nil {
		return 0
	}
	defer root.Close()
	fs.WalkDir(root.FS(), ".", func(_ string, entry fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return fs.SkipDir
		}
		if info, err := entry.Info(); err == nil {
			if s, ok := info.Sys().(*syscall.Stat_t); ok {
				total += s.Blocks * 512
			}
		}
		return nil
	})
	return total
}

func (metered) remove(_ context.Context, path string) error { return os.RemoveAll(path) }

func run(ctx context.Context, name string, args ...string) (string, error) {
	var out, complaint bytes.Buffer
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdout, cmd.Stderr = &out, &complaint
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, bytes.TrimSpace(complaint.Bytes()))
	}
	return out.String(), nil
}
