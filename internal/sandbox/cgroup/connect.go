package cgroup

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// RefusePort has the kernel refuse each connection of a process in any of the groups to a TCP or
// UDP port, with EPERM, wherever it leads. It stays so while the groups exist; doing it once more
// changes nothing. It needs version 2, beside whatever controllers (bpf(2),
// BPF_PROG_TYPE_CGROUP_SOCK_ADDR).
func (t *Tree) RefusePort(port uint16) error {
	if t.v2 == "" {
		return errors.New("there is no tree of cgroup version 2")
	}
	group, err := os.Open(t.v2)
	if err != nil {
		return err
	}
	defer group.Close()
	for _, hook := range []uint32{unix.BPF_CGROUP_INET4_CONNECT, unix.BPF_CGROUP_INET6_CONNECT} {
		if err := attach(int(group.Fd()), hook, refusePort(port)); err != nil {
			return err
		}
	}
	return nil
}

// instruction is one of the kernel's machine (linux/bpf.h, struct bpf_insn): registers has the
// target in the low half, the source in the high one.
type instruction struct {
	code      uint8
	registers uint8
	offset    int16
	immediate int32
}

// portAt is where the port of a connection is in what the program is given (linux/bpf.h, struct
// bpf_sock_addr): 32 bits, of which the port is the first two octets as they are sent.
const portAt = 24

// refusePort lets every connection through (1) but those to the port (0).
func refusePort(port uint16) []instruction {
	sent := make([]byte, 4)
	binary.BigEndian.PutUint16(sent, port)
	return []instruction{
		{code: unix.BPF_LDX | unix.BPF_W | unix.BPF_MEM, registers: 1<<4 | 2, offset: portAt}, // r2 = port
		{code: unix.BPF_ALU64 | unix.BPF_MOV | unix.BPF_K, immediate: 1},                      // r0 = 1
		{code: unix.BPF_JMP | unix.BPF_JNE | unix.BPF_K, registers: 2, offset: 1,
			immediate: int32(binary.NativeEndian.Uint32(sent))}, // another port: leave the next one out
		{code: unix.BPF_ALU64 | unix.BPF_MOV | unix.BPF_K}, // r0 = 0
		{code: unix.BPF_JMP | unix.BPF_EXIT},
	}
}

// attach has a group's processes ask a program before they connect, instead of the one that was
// there.
func attach(group int, hook uint32, program []instruction) error {
	license := []byte("MIT\x00") // it uses nothing that would need another one
	// The kernel has numbers of 64 bits where these are pointers, which is the same on the
	// processors that sandboxes are for (package confine).
	load := struct {
		kind, instructions   uint32
		program              *instruction
		license              *byte
		logLevel, logSize    uint32
		log                  uint64
		kernelVersion, flags uint32
		name                 [16]byte
		device, expectedHook uint32
	}{kind: unix.BPF_PROG_TYPE_CGROUP_SOCK_ADDR, instructions: uint32(len(program)), program: &program[0],
		license: &license[0], expectedHook: hook}
	copy(load.name[:], "refuse_port")
	loaded, _, errno := unix.Syscall(unix.SYS_BPF, unix.BPF_PROG_LOAD, uintptr(unsafe.Pointer(&load)),
		unsafe.Sizeof(load))
	if errno != 0 {
		return fmt.Errorf("the kernel takes no program for connections: %w", errno)
	}
	defer unix.Close(int(loaded))
	to := struct{ group, program, hook, flags uint32 }{uint32(group), uint32(loaded), hook, 0}
	if _, _, errno := unix.Syscall(unix.SYS_BPF, unix.BPF_PROG_ATTACH, uintptr(unsafe.Pointer(&to)),
		unsafe.Sizeof(to)); errno != 0 {
		return fmt.Errorf("the kernel asks no program before a group connects: %w", errno)
	}
	return nil
}
