package confine

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// What no process of an account may ask of the kernel. Without capabilities most of the kernel's
// privileged calls are refused anyway; these are not.
//
// Subvolumes made by users would hold bytes outside of the home's limit until they are found;
// characters pushed into a terminal would be read by whoever holds its other end; and the rest are
// ways into the kernel that nothing in hosting needs and that have been used to break out of it.
var (
	refusedRequests = []uint32{
		// ioctl_btrfs.h: SUBVOL_CREATE, SNAP_CREATE, SNAP_DESTROY, SUBVOL_CREATE_V2,
		// SNAP_CREATE_V2, SNAP_DESTROY_V2.
		0x5000940e, 0x50009401, 0x5000940f, 0x50009418, 0x50009417, 0x5000943f,
		// linux/fs.h: FS_IOC_FSSETXATTR and FS_IOC_SETFLAGS would take files out of the project
		// that counts them, where the file system has projects.
		0x401c5820, 0x40086602,
		unix.TIOCSTI, 0x541c, // TIOCLINUX
	}
	refusedCalls = []uint32{
		unix.SYS_UNSHARE, unix.SYS_SETNS, unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
		unix.SYS_IO_URING_SETUP, unix.SYS_IO_URING_ENTER, unix.SYS_IO_URING_REGISTER, unix.SYS_KEYCTL,
		unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV,
		unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_FSOPEN, unix.SYS_OPEN_TREE, unix.SYS_MOVE_MOUNT,
		unix.SYS_PIVOT_ROOT, unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_NAME_TO_HANDLE_AT, unix.SYS_KCMP,
		unix.SYS_PERSONALITY, unix.SYS_QUOTACTL, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_SYSLOG,
	}
)

// Calls of the kernel's interface for other processors than the program was built for have other
// numbers, which the filter would take for something else: they are refused as a whole.
var architectures = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}

const (
	allow = 0x7fff0000 // SECCOMP_RET_ALLOW
	deny  = 0x00050000 // SECCOMP_RET_ERRNO

	newUser = unix.CLONE_NEWUSER
)

// families are the kinds of sockets that may be made. Of the kernel's own (netlink), only what
// resolvers ask for addresses is among them: others would list everybody's connections.
var families = []uint32{unix.AF_UNIX, unix.AF_INET, unix.AF_INET6}

// program is the filter: each call is answered with an error or let through (seccomp(2)).
func program() ([]bpf.RawInstruction, error) {
	arch, known := architectures[runtime.GOARCH]
	if !known {
		return nil, fmt.Errorf("there is no filter of system calls for %s", runtime.GOARCH)
	}
	refuse := func(errno uint32) bpf.Instruction { return bpf.RetConstant{Val: deny | errno} }
	number, argument := bpf.LoadAbsolute{Off: 0, Size: 4}, func(n uint32) bpf.Instruction {
		return bpf.LoadAbsolute{Off: 16 + 8*n, Size: 4} // the low half, on these processors
	}
	list := []bpf.Instruction{
		bpf.LoadAbsolute{Off: 4, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: arch, SkipTrue: 1},
		refuse(uint32(unix.ENOSYS)),
		number,
		// The x32 interface of amd64 has its numbers above this bit.
		bpf.JumpIf{Cond: bpf.JumpLessThan, Val: 0x40000000, SkipTrue: 1},
		refuse(uint32(unix.ENOSYS)),
		// clone3 has its flags in memory, which a filter cannot read:
		// without it, libraries use clone.
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_CLONE3, SkipTrue: 1},
		refuse(uint32(unix.ENOSYS)),
	}
	for _, call := range refusedCalls {
		list = append(list, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: call, SkipTrue: 1}, refuse(uint32(unix.EPERM)))
	}
	list = append(list,
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_CLONE, SkipTrue: 4},
		argument(0),
		bpf.JumpIf{Cond: bpf.JumpBitsNotSet, Val: newUser, SkipTrue: 1},
		refuse(uint32(unix.EPERM)),
		bpf.RetConstant{Val: allow},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_SOCKET, SkipTrue: uint8(4 + 2*len(families) + 5)},
		// Its connections are not asked about as those of TCP are (cgroup.RefusePort).
		argument(2),
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_MPTCP, SkipTrue: 1},
		refuse(uint32(unix.EPROTONOSUPPORT)),
		argument(0),
	)
	for _, family := range families {
		list = append(list, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: family, SkipTrue: 1}, bpf.RetConstant{Val: allow})
	}
	list = append(list,
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.AF_NETLINK, SkipTrue: 3},
		argument(2),
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.NETLINK_ROUTE, SkipTrue: 1},
		bpf.RetConstant{Val: allow},
		refuse(uint32(unix.EAFNOSUPPORT)),
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_IOCTL, SkipTrue: uint8(1 + 2*len(refusedRequests))},
		argument(1),
	)
	for _, request := range refusedRequests {
		list = append(list, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: request, SkipTrue: 1}, refuse(uint32(unix.EPERM)))
	}
	return bpf.Assemble(append(list, bpf.RetConstant{Val: allow}))
}

// filterCalls has the kernel keep to the filter for this thread and all that it becomes or makes.
func filterCalls() error {
	raw, err := program()
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		filter[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	prog := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	return unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&prog)), 0, 0)
}
