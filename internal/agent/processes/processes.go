// Package processes finds and ends what runs as an account's user, and says as whom programs run
// that need no rights.
package processes

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"victualler/internal/agent/asuser"
)

// longest is how long processes may take to end: one that waits for a disk ends when that answers.
const longest = 10 * time.Second

// End ends all processes of a user, however fast they make new ones: the kernel lets no process be
// made of one that is being ended in the same call (kill(2), with -1).
func End(ctx context.Context, uid int) error {
	for end := time.Now().Add(longest); ; {
		pids := Of(uid)
		if len(pids) == 0 {
			return nil
		}
		if err := asuser.EndProcesses(ctx, uid); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(end) {
			return fmt.Errorf("processes %v of user %d do not end", pids, uid)
		}
	}
}

// Of lists the processes whose real user is uid.
func Of(uid int) []int {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	var found []int
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		// The directory's owner would not do: it is root for processes that have
		// changed their user (proc(5)).
		status, err := os.ReadFile("/proc/" + name + "/status")
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(status)) {
			if uids, is := strings.CutPrefix(line, "Uid:"); is {
				if fields := strings.Fields(uids); len(fields) == 4 && fields[0] == strconv.Itoa(uid) &&
					!ended(string(status)) {
					found = append(found, pid)
				}
				break
			}
		}
	}
	return found
}

// ended reports whether a process only waits for its parent to hear of its end.
func ended(status string) bool { return strings.Contains(status, "\nState:\tZ") }
