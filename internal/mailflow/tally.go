package mailflow

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/mailflow/definition"
)

// Hour is the time that limits on sending are for.
const Hour = time.Hour

// Tally counts what was sent within a window of time, to the moment, by subject. Each decision is
// in a file before it is told, so that a process that is killed forgets none. One process has the
// file at a time.
type Tally struct {
	path   string
	window time.Duration
	// Now is the time; tests set it.
	Now func() time.Time

	mu       sync.Mutex
	file     *os.File
	line     []byte // what is written next
	lines    int
	subjects map[string]*count
	// compacted is when what no longer counts was last left out (Unix, in milliseconds).
	compacted int64
}

// count is what was sent of a subject.
type count struct {
	sum  int64
	list []sent
}

type sent struct {
	at int64 // Unix, in milliseconds
	n  int64
}

// Bound is how much may be sent of a subject within the window.
type Bound struct {
	// Subject has no spaces.
	Subject string
	// Most is how many, or Unlimited.
	Most int64
}

// Over says that a bound would be passed.
type Over struct {
	Bound
	// Used is what was sent within the window.
	Used int64
	// Wait is when as much may be sent; 0 if never, as it is more than the bound.
	Wait time.Duration
}

// OpenTally opens the file, and makes it where there is none.
func OpenTally(path string, window time.Duration) (*Tally, error) {
	t := &Tally{path: path, window: window, Now: time.Now, subjects: map[string]*count{}}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("%s is in use: is another process running?", path), file.Close())
	}
	t.file = file
	if err := t.load(); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return t, nil
}

// Close closes the file.
func (t *Tally) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.file.Close()
}

// load reads what was counted. A line that was not written whole was not told to anybody.
func (t *Tally) load() error {
	lines := bufio.NewReader(t.file)
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			if line != "" {
				// What comes next starts a line of its own.
				if _, err := t.file.Write([]byte("\n")); err != nil {
					return err
				}
			}
			return nil
		}
		fields := strings.Fields(line)
		if len(fields) < 3 {
			continue
		}
		at, err1 := strconv.ParseInt(fields[0], 10, 64)
		n, err2 := strconv.ParseInt(fields[1], 10, 64)
		if err1 != nil || err2 != nil || n < 1 {
			continue
		}
		t.lines++
		for _, subject := range fields[2:] {
			t.add(subject, at, n)
		}
	}
}

func (t *Tally) add(subject string, at, n int64) {
	c := t.subjects[subject]
	if c == nil {
		c = &count{}
		t.subjects[subject] = c
	}
	c.list = append(c.list, sent{at, n})
	c.sum += n
}

// current is the count of a subject without what is older than the window.
func (t *Tally) current(subject string, now int64) *count {
	c := t.subjects[subject]
	if c == nil {
		return &count{}
	}
	old := 0
	for old < len(c.list) && c.list[old].at <= now-t.window.Milliseconds() {
		c.sum -= c.list[old].n
		old++
	}
	if c.list = c.list[old:]; len(c.list) == 0 {
		delete(t.subjects, subject)
	}
	return c
}

// Take counts n for each of the subjects, or for none: where a bound would be passed, it is
// returned.
func (t *Tally) Take(n int64, bounds ...Bound) (*Over, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.Now().UnixMilli()
	line := append(strconv.AppendInt(t.line[:0], now, 10), ' ')
	line = strconv.AppendInt(line, n, 10)
	for _, b := range bounds {
		if c := t.current(b.Subject, now); b.Most != definition.Unlimited && c.sum+n > b.Most {
			return &Over{Bound: b, Used: c.sum, Wait: c.wait(c.sum+n-b.Most, now, t.window)}, nil
		}
		line = append(append(line, ' '), b.Subject...)
	}
	t.line = append(line, '\n')
	if _, err := t.file.Write(t.line); err != nil {
		return nil, fmt.Errorf("count what is sent: %w", err)
	}
	for _, b := range bounds {
		t.add(b.Subject, now, n)
	}
	// What no longer counts is not kept either: it says who has sent when.
	if t.lines++; t.lines > 100_000 || now-t.compacted > t.window.Milliseconds() {
		return nil, t.compact(now)
	}
	return nil, nil
}

// wait is how long it takes until an amount of what was sent no longer counts.
func (c *count) wait(n, now int64, window time.Duration) time.Duration {
	for _, s := range c.list {
		if n -= s.n; n <= 0 {
			return window - time.Duration(now-s.at)*time.Millisecond
		}
	}
	return 0
}

// compact writes the file anew, with what counts still. A subject has lines of its own then.
func (t *Tally) compact(now int64) error {
	unfinished := t.path + ".new"
	file, err := os.OpenFile(unfinished, os.O_CREATE|os.O_TRUNC|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return errors.Join(err, file.Close())
	}
	buffered := bufio.NewWriter(file)
	lines := 0
	for subject := range t.subjects {
		for _, s := range t.current(subject, now).list {
			fmt.Fprintf(buffered, "%d %d %s\n", s.at, s.n, subject)
			lines++
		}
	}
	if err := errors.Join(buffered.Flush(), os.Rename(unfinished, t.path)); err != nil {
		return errors.Join(err, file.Close())
	}
	old := t.file
	t.compacted = now
	t.file, t.lines = file, min(lines, 50_000) // a busy hour is not written anew with each message
	return old.Close()
}

// Used returns what was sent of each subject within the window.
func (t *Tally) Used() map[string]int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.Now().UnixMilli()
	used := map[string]int64{}
	for subject := range t.subjects {
		if n := t.current(subject, now).sum; n > 0 {
			used[subject] = n
		}
	}
	return used
}
