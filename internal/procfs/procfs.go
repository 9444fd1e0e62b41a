// Package procfs reads what the kernel tells of processes (proc(5)).
package procfs

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// StartTime tells a running process from another that has its number later; it is empty for one
// that is gone, or that only waits for its parent to hear of its end.
func StartTime(pid int) string {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	// The name, in parentheses, may hold anything; fields follow the last one.
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" {
		return ""
	}
	return fields[19]
}

// Children lists the processes whose parent is the first thread of a process.
func Children(pid int) ([]int, error) {
	list, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	var children []int
	for field := range strings.FieldsSeq(string(list)) {
		if child, err := strconv.Atoi(field); err == nil {
			children = append(children, child)
		}
	}
	return children, err
}
