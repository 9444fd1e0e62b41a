package sysuser

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/wholefile"
)

// newUser is a user to be made.
type newUser struct {
	name string
	// id is the number of the user and of its own group, which has its name.
	id          int
	home, shell string
	hash        string // as in shadow(5)
	// member is a group of ours that it becomes a member of.
	member string
	// further says that it is another sign-in of a user who is there:
	// it shares the number and the group.
	further bool
}

// waiting is a user that waits to be made with others.
type waiting struct {
	newUser
	made chan error
}

// add makes a user, together with those that others want made meanwhile. Debian's commands make one
// at a time and write every table to disk for each of them: for fifty accounts opened at once, that
// would be half of the time. The tables are written as passwd(5), shadow(5), group(5) and
// gshadow(5) say, under the lock that those commands take.
func (d *Driver) add(ctx context.Context, u newUser) error {
	own := waiting{u, make(chan error, 1)}
	d.queue.Lock()
	d.waiting = append(d.waiting, own)
	d.queue.Unlock()
	// Whoever is the next to come in makes all that wait; the others find theirs made.
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queue.Lock()
	all := d.waiting
	d.waiting = nil
	d.queue.Unlock()
	if len(all) > 0 {
		addAll(ctx, all)
	}
	return <-own.made
}

func addAll(ctx context.Context, all []waiting) {
	// Errors of single users do not keep the others from being made.
	refused := make([]error, len(all))
	err := func() error {
		if err := makeGroups(ctx); err != nil {
			return err
		}
		unlock, err := lockTables(ctx)
		if err != nil {
			return err
		}
		defer unlock()
		t, err := openDrafts()
		if err != nil {
			return err
		}
		for n, u := range all {
			refused[n] = t.add(u.newUser)
		}
		return t.write()
	}()
	for n, u := range all {
		if err == nil {
			u.made <- refused[n]
		} else {
			u.made <- fmt.Errorf("make user %s: %w", u.name, err)
		}
	}
}

// lockLimit is how long other programs may hold the lock, as in lckpwdf(3).
const lockLimit = 15 * time.Second

// lockTables takes the lock of lckpwdf(3), which useradd, vipw and the like take.
func lockTables(ctx context.Context) (unlock func(), err error) {
	f, err := os.OpenFile("/etc/.pwd.lock", os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(lockLimit); ; {
		err := unix.FcntlFlock(f.Fd(), unix.F_OFD_SETLK, &unix.Flock_t{Type: unix.F_WRLCK})
		if err == nil {
			return func() { f.Close() }, nil
		}
		if time.Now().After(end) {
			f.Close()
			return nil, fmt.Errorf("/etc/.pwd.lock: another program has been changing users for %s: %w", lockLimit, err)
		}
		select {
		case <-ctx.Done():
			f.Close()
			return nil, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// drafts are the four tables on their way to be written.
type drafts struct{ passwd, shadow, group, gshadow *draft }

func openDrafts() (*drafts, error) {
	t := &drafts{}
	for path, to := range map[string]**draft{passwd.path: &t.passwd, shadow.path: &t.shadow, group.path: &t.group,
		"/etc/gshadow": &t.gshadow} {
		d, err := openDraft(path)
		if err != nil {
			return nil, err
		}
		*to = d
	}
	return t, nil
}

// write writes what has changed. The line in passwd, by which a user is there, comes last: killed
// before, the next one to add it begins anew.
func (t *drafts) write() error {
	for _, d := range []*draft{t.group, t.gshadow, t.shadow, t.passwd} {
		if err := d.write(); err != nil {
			return err
		}
	}
	return nil
}

func (t *drafts) add(u newUser) error {
	id := strconv.Itoa(u.id)
	if found := t.passwd.fields(u.name); found != nil {
		if len(found) == 7 && found[2] == id {
			return nil
		}
		return fmt.Errorf("a user %s with the number %s is on the server already and is not this account's; choose "+
			"another sign-in name, or remove that user", u.name, found[2])
	}
	if !u.further {
		if other := t.passwd.nameOf(id); other != "" {
			return fmt.Errorf("the number %s, which is this account's, is the user %s's on this server; give that "+
				"user another one", id, other)
		}
		if found := t.group.fields(u.name); found != nil && found[2] != id {
			return fmt.Errorf("a group %s with the number %s is on the server already and is not this account's; "+
				"choose another sign-in name, or remove that group", u.name, found[2])
		}
		if other := t.group.nameOf(id); other != "" && other != u.name {
			return fmt.Errorf("the number %s, which is this account's, is the group %s's on this server; give that "+
				"group another one", id, other)
		}
		t.group.set(u.name, u.name, "x", id, "")
		t.gshadow.set(u.name, u.name, "!", "", "")
	}
	t.group.join(u.member, u.name)
	t.gshadow.join(u.member, u.name)
	// Without days after which the password would have to be changed: a
	// transfer program cannot ask for that.
	today := strconv.FormatInt(time.Now().Unix()/(24*60*60), 10)
	t.shadow.set(u.name, u.name, u.hash, today, "", "", "", "", "", "")
	t.passwd.set(u.name, u.name, "x", id, id, "", u.home, u.shell)
	return nil
}

// draft is one table: its lines, and where each name's is.
type draft struct {
	path    string
	mode    os.FileMode
	owners  string // the file's group
	lines   []string
	at      map[string]int
	ids     map[string]string // from number to name, made when it is asked for
	changed bool
}

// openDraft reads a table. One that is missing, as gshadow is on some servers, stays so.
func openDraft(path string) (*draft, error) {
	d := &draft{path: path, at: map[string]int{}}
	text, err := os.ReadFile(path)
	if err != nil {
		return d, gone(err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	owners, err := user.LookupGroupId(strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Gid)))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	d.mode, d.owners = info.Mode().Perm(), owners.Name
	lines := bytes.Count(text, []byte("\n"))
	d.lines, d.at = make([]string, 0, lines+64), make(map[string]int, lines)
	for line := range strings.Lines(string(text)) {
		d.append(strings.TrimSuffix(line, "\n"))
	}
	return d, nil
}

func (d *draft) append(line string) {
	name, _, _ := strings.Cut(line, ":")
	if _, twice := d.at[name]; !twice {
		d.at[name] = len(d.lines)
	}
	d.lines = append(d.lines, line)
}

// fields are those of a name's line; none for a name that is not there.
func (d *draft) fields(name string) []string {
	n, there := d.at[name]
	if !there {
		return nil
	}
	return strings.Split(d.lines[n], ":")
}

// nameOf is the name of the first line with a number, of a user in passwd or a group in group.
func (d *draft) nameOf(id string) string {
	if d.ids == nil {
		d.ids = make(map[string]string, len(d.lines))
		for _, line := range slices.Backward(d.lines) {
			if fields := strings.SplitN(line, ":", 4); len(fields) == 4 {
				d.ids[fields[2]] = fields[0]
			}
		}
	}
	return d.ids[id]
}

// set makes a name's line, or replaces it.
func (d *draft) set(name string, fields ...string) {
	line := strings.Join(fields, ":")
	if n, there := d.at[name]; there {
		d.changed = d.changed || d.lines[n] != line
		d.lines[n] = line
		return
	}
	d.append(line)
	d.changed = true
	if d.ids != nil && d.ids[fields[2]] == "" {
		d.ids[fields[2]] = name
	}
}

// join makes a user a member of a group: the last field of its line (group(5), gshadow(5)).
func (d *draft) join(group, user string) {
	fields := d.fields(group)
	if fields == nil {
		return
	}
	// Thousands may be members: the list is not taken apart.
	members := &fields[len(fields)-1]
	if strings.Contains(","+*members+",", ","+user+",") {
		return
	}
	*members = strings.Trim(*members+","+user, ",")
	d.set(group, fields...)
}

func (d *draft) write() error {
	if !d.changed || d.mode == 0 {
		return nil
	}
	return wholefile.Write(d.path, []byte(strings.Join(d.lines, "\n")+"\n"), d.mode, d.owners)
}
