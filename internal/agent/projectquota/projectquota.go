// Package projectquota has the kernel count and bound what a directory holds, in ext4 and XFS: all
// files of a project, which directories hand on to what is made in them (quotactl(2), with
// PRJQUOTA; ioctl_xfs_fssetxattr(2), which ext4 has as well).
//
// Projects are numbers. Nothing is found by a path: who calls opens the directories.
package projectquota

import (
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Types of file systems that have projects (statfs(2)).
const (
	ext4 = 0xef53
	xfs  = 0x58465342
)

// Commands of quotactl(2), from linux/quota.h: a command in the upper 24 bits, the kind of quota in
// the lower 8.
const (
	projects = 2 // PRJQUOTA
	getQuota = 0x800007<<8 | projects
	setQuota = 0x800008<<8 | projects
	getState = 0x800005<<8 | projects // Q_GETINFO
)

// Requests of ioctl(2), from linux/fs.h, and the flag by which a directory hands its project on.
const (
	getAttributes = 0x801c581f // FS_IOC_FSGETXATTR
	setAttributes = 0x401c5820 // FS_IOC_FSSETXATTR
	inherit       = 0x200      // FS_XFLAG_PROJINHERIT
)

// Block is what limits are counted in, in bytes.
const Block = 1024

// quota is struct if_dqblk of linux/quota.h.
type quota struct {
	BlockHard, BlockSoft, Space  uint64 // limits in blocks, use in bytes
	InodeHard, InodeSoft, Inodes uint64
	BlockTime, InodeTime         uint64
	Valid                        uint32
	_                            uint32
}

const blockLimits = 1 // QIF_BLIMITS

// attributes is struct fsxattr of linux/fs.h.
type attributes struct {
	Flags, ExtentSize, Extents, Project, CowExtentSize uint32
	_                                                  [8]byte
}

// Usage is what a project holds.
type Usage struct{ Bytes, Files int64 }

// FS is a file system with project quota.
type FS struct {
	root *os.File
	sys  system
}

// system is the kernel.
type system interface {
	quotactl(fd int, command uint32, id uint32, address unsafe.Pointer) error
	ioctl(fd int, request uint32, address unsafe.Pointer) error
	kind(fd int) (int64, error)
}

// ErrNone says that a file system keeps no quota of projects: of another type, or mounted without.
var ErrNone = errors.New("the file system keeps no quota of projects; mount it with the option prjquota")

// Open returns the file system that holds a directory, or [ErrNone].
func Open(dir string) (*FS, error) {
	root, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	fs, err := open(root, kernel{})
	if err != nil {
		root.Close()
	}
	return fs, err
}

func open(root *os.File, sys system) (*FS, error) {
	fs := &FS{root: root, sys: sys}
	kind, err := sys.kind(int(root.Fd()))
	if err != nil {
		return nil, err
	}
	if kind != ext4 && kind != xfs {
		return nil, ErrNone
	}
	var state [24]byte // struct if_dqinfo
	if err := sys.quotactl(int(root.Fd()), getState, 0, unsafe.Pointer(&state)); err != nil {
		return nil, fmt.Errorf("%w (%w)", ErrNone, err)
	}
	return fs, nil
}

// SetProject makes a file or directory one of a project; a directory
// hands it on to what is made in it.
func (fs *FS) SetProject(f *os.File, project uint32) error {
	now, err := fs.attributes(f)
	if err != nil {
		return err
	}
	wanted := now
	wanted.Project = project
	if info, err := f.Stat(); err == nil && info.IsDir() {
		wanted.Flags |= inherit
	}
	if wanted == now {
		return nil
	}
	if err := fs.sys.ioctl(int(f.Fd()), setAttributes, unsafe.Pointer(&wanted)); err != nil {
		return fmt.Errorf("make %s one of project %d: %w", f.Name(), project, err)
	}
	return nil
}

// Project returns the project of a file or directory; 0 is none.
func (fs *FS) Project(f *os.File) (uint32, error) {
	a, err := fs.attributes(f)
	return a.Project, err
}

func (fs *FS) attributes(f *os.File) (attributes, error) {
	var a attributes
	if err := fs.sys.ioctl(int(f.Fd()), getAttributes, unsafe.Pointer(&a)); err != nil {
		return a, fmt.Errorf("project of %s: %w", f.Name(), err)
	}
	return a, nil
}

// Limit returns the most bytes that a project may hold; nil is no limit.
func (fs *FS) Limit(project uint32) (*int64, error) {
	q, err := fs.quota(project)
	if err != nil || q.BlockHard == 0 {
		return nil, err
	}
	bytes := int64(q.BlockHard) * Block
	return &bytes, nil
}

// SetLimit sets the most bytes that a project may hold, rounded up to a block; nil lifts it. 0
// would mean no limit to the kernel: it is one block.
func (fs *FS) SetLimit(project uint32, bytes *int64) error {
	q := quota{Valid: blockLimits}
	if bytes != nil {
		q.BlockHard = max(1, uint64(*bytes+Block-1)/Block)
	}
	if err := fs.sys.quotactl(int(fs.root.Fd()), setQuota, project, unsafe.Pointer(&q)); err != nil {
		return fmt.Errorf("limit of project %d: %w", project, err)
	}
	return nil
}

// Used returns what a project holds.
func (fs *FS) Used(project uint32) (Usage, error) {
	q, err := fs.quota(project)
	return Usage{Bytes: int64(q.Space), Files: int64(q.Inodes)}, err
}

// quota reads what the kernel knows of a project; nothing of one that it does not know.
func (fs *FS) quota(project uint32) (quota, error) {
	var q quota
	err := fs.sys.quotactl(int(fs.root.Fd()), getQuota, project, unsafe.Pointer(&q))
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ESRCH) {
		return quota{}, nil
	}
	if err != nil {
		return quota{}, fmt.Errorf("quota of project %d: %w", project, err)
	}
	return q, nil
}

// kernel is the running one. quotactl_fd(2) needs no path of a device (Linux 5.14).
type kernel struct{}

func (kernel) quotactl(fd int, command, id uint32, address unsafe.Pointer) error {
	_, _, errno := unix.Syscall6(unix.SYS_QUOTACTL_FD, uintptr(fd), uintptr(command), uintptr(id), uintptr(address), 0,
		0)
	if errno != 0 {
		return errno
	}
	return nil
}

func (kernel) ioctl(fd int, request uint32, address unsafe.Pointer) error {
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), uintptr(request), uintptr(address))
	if errno != 0 {
		return errno
	}
	return nil
}

func (kernel) kind(fd int) (int64, error) {
	var s unix.Statfs_t
	err := unix.Fstatfs(fd, &s)
	return int64(s.Type), err
}
