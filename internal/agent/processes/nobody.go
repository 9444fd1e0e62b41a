package processes

import (
	"os/user"
	"strconv"
	"syscall"
)

// Nobody is the user who has nothing, for programs that have to do with what strangers have
// written.
func Nobody() (*syscall.Credential, error) {
	u, err := user.Lookup("nobody")
	if err != nil {
		return nil, err
	}
	n, err := strconv.ParseUint(u.Uid, 10, 32)
	return &syscall.Credential{Uid: uint32(n), Gid: uint32(n), Groups: []uint32{}}, err
}
