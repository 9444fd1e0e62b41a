package sysuser

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// entry is a line of /etc/passwd (passwd(5)).
type entry struct {
	uid, gid    int
	home, shell string
}

func lookUp(name string) (*entry, error) {
	fields, err := passwd.line(name)
	if err != nil || len(fields) != 7 {
		return nil, err
	}
	uid, err1 := strconv.Atoi(fields[2])
	gid, err2 := strconv.Atoi(fields[3])
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("/etc/passwd: user %s: %w", name, err)
	}
	return &entry{uid, gid, fields[5], fields[6]}, nil
}

func hasGroup(name string) (bool, error) {
	fields, err := group.line(name)
	return fields != nil, err
}

// table is a file of lines that begin with a name and a colon. It is read again when it has been
// written: a sweep looks up thousands of names.
type table struct {
	path string

	mu    sync.Mutex
	read  os.FileInfo
	lines map[string]string
	// members are the last fields of lines as sets, made when they are first asked for.
	members map[string]map[string]bool
}

var (
	passwd = &table{path: "/etc/passwd"}
	group  = &table{path: "/etc/group"}
	shadow = &table{path: "/etc/shadow"}
)

// line returns the fields of a name's line; none for a name that is not there.
func (t *table) line(name string) ([]string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now, err := os.Stat(t.path)
	if err != nil {
		return nil, err
	}
	// Every change is a new file under the name (passwd(5), vipw(8)):
	// its number differs as well as its time.
	if t.read == nil || !os.SameFile(t.read, now) || !t.read.ModTime().Equal(now.ModTime()) ||
		t.read.Size() != now.Size() {
		text, err := os.ReadFile(t.path)
		if err != nil {
			return nil, err
		}
		lines := make(map[string]string, bytes.Count(text, []byte("\n")))
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSuffix(line, "\n")
			if name, _, found := strings.Cut(line, ":"); found {
				if _, twice := lines[name]; !twice {
					lines[name] = line
				}
			}
		}
		t.read, t.lines, t.members = now, lines, map[string]map[string]bool{}
	}
	line, there := t.lines[name]
	if !there {
		return nil, nil
	}
	return strings.Split(line, ":"), nil
}

func passwordOf(user string) (string, error) {
	fields, err := shadow.line(user)
	if err != nil || len(fields) < 2 {
		return "", err
	}
	return fields[1], nil
}

// withPrefix lists the names that begin with a prefix.
func (t *table) withPrefix(prefix string) ([]string, error) {
	if _, err := t.line(""); err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	var names []string
	for name := range t.lines {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// memberOf reports whether a user is listed as a member of a group.
func memberOf(name, user string) (bool, error) {
	fields, err := group.line(name)
	if err != nil || len(fields) != 4 {
		return false, err
	}
	group.mu.Lock()
	defer group.mu.Unlock()
	set, known := group.members[name]
	if !known {
		set = map[string]bool{}
		for _, member := range strings.Split(fields[3], ",") {
			set[member] = true
		}
		group.members[name] = set
	}
	return set[user], nil
}
