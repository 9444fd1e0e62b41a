// Package sitelog gives every site its own access log, in its account's home.
//
// nginx writes one log for all sites, so that it need not hold a file open for each of them in
// every worker. This package reads along and sorts the lines into the homes, where the files are
// rotated and count against the account's disk space:
//
//	/home/NAME/logs                     root:NAME 0750: the account reads it, and cannot put links in the way
//	/home/NAME/logs/DOMAIN.log          today's, root:NAME 0640
//	/home/NAME/logs/DOMAIN-20261123.log.gz   earlier ones
package sitelog

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/follow"
)

// How much is kept.
const (
	// LargestFile is how many bytes a site's log grows to before it is rotated within the day.
	LargestFile = 16 << 20
	// Kept is how many rotated logs a site keeps.
	Kept = 14
)

// Splitter sorts the common log into the sites' own. Make one with its
// exported fields set, and call [Splitter.Run].
type Splitter struct {
	// Source is the log that nginx writes. Its directory must belong to root.
	Source string
	// StateFile remembers how far it was read.
	StateFile string
	// Homes is the directory of homes.
	Homes string
	// Reopen has nginx begin another log.
	Reopen func(context.Context) error
	// Count is told how many requests a site had.
	Count func(account, domain string, requests int)
	Log   *slog.Logger
	// Now is the time; time.Now where it is nil.
	Now func() time.Time

	log follow.Log
}

// Run sorts lines until the context ends.
func (s *Splitter) Run(ctx context.Context) {
	s.begin()
	s.log.Run(ctx, func(err error) { s.Log.Warn("access logs", "reason", err) })
}

// begin finds out how far the log was sorted before.
func (s *Splitter) begin() {
	if s.Now == nil {
		s.Now = time.Now
	}
	s.log = follow.Log{Source: s.Source, Reopen: s.Reopen, Now: s.Now, Take: func(lines []byte,
		at follow.Position) error {
		s.sort(lines)
		return s.savePosition(at)
	}}
	text, err := os.ReadFile(s.StateFile)
	if err == nil {
		_ = json.Unmarshal(text, &s.log.Position) // a state that cannot be read is none
	}
}

// savePosition remembers how far lines have been sorted.
func (s *Splitter) savePosition(at follow.Position) error {
	text, err := json.Marshal(at)
	if err != nil {
		return err
	}
	next := s.StateFile + ".new"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, s.StateFile)
}

// lineHead is what each line begins with: account and site.
var lineHead = regexp.MustCompile(`^([a-z][a-z0-9]{1,15}) ([a-z0-9.-]{3,253}) `)

// sort appends whole lines to the logs of their sites.
func (s *Splitter) sort(text []byte) {
	var order []string
	bySite, requests := map[string][]byte{}, map[string]int{}
	for line := range bytes.Lines(text) {
		head := lineHead.FindSubmatch(line)
		if head == nil {
			continue // of no site: a request that was none
		}
		site := string(head[1]) + "/" + string(head[2])
		if requests[site] == 0 {
			order = append(order, site)
		}
		requests[site]++
		if entry := line[len(head[0]):]; len(entry) > 1 { // nothing follows where the site keeps no log
			bySite[site] = append(bySite[site], entry...)
		}
	}
	for _, site := range order {
		account, name, _ := strings.Cut(site, "/")
		s.Count(account, name, requests[site])
		if len(bySite[site]) == 0 {
			continue
		}
		if err := s.append(account, name, bySite[site]); err != nil && !errors.Is(err, fs.ErrNotExist) {
			s.Log.Debug("access log of a site", "account", account, "site", name, "reason", err)
		}
	}
}

// Dir is the directory of an account's logs.
func Dir(homes, account string) string { return filepath.Join(homes, account, "logs") }

// fileStem is what a site's log is named after; very long names are cut.
func fileStem(site string) string {
	if len(site) > 200 {
		return site[:200] + "~"
	}
	return site
}

// File is the path of a site's log.
func File(homes, account, site string) string {
	return filepath.Join(Dir(homes, account), fileStem(site)+".log")
}

// append writes lines to a site's log. A full home loses them: the site goes on.
func (s *Splitter) append(account, site string, lines []byte) error {
	dir := Dir(s.Homes, account)
	var st syscall.Stat_t
	if err := syscall.Lstat(dir, &st); err != nil {
		return err
	}
	if st.Mode&syscall.S_IFMT != syscall.S_IFDIR || st.Uid != 0 {
		return fmt.Errorf("%s is not root's directory", dir)
	}
	path := File(s.Homes, account, site)
	now := s.Now().UTC()
	if info, err := os.Lstat(path); err == nil &&
		(info.Size() >= LargestFile || info.Size() > 0 && day(info.ModTime()) != day(now)) {
		if err := rotate(path, info.ModTime()); err != nil {
			s.Log.Debug("rotation", "file", path, "reason", err)
		}
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE|unix.O_NOFOLLOW, 0o640)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Chown(0, int(st.Gid)); err != nil {
		return err
	}
	_, err = f.Write(lines)
	return err
}

func day(t time.Time) string { return t.UTC().Format("20060102") }

// rotate puts a log aside under its day, compressed, and removes the oldest ones.
func rotate(path string, last time.Time) error {
	stem := strings.TrimSuffix(path, ".log")
	to := stem + "-" + day(last) + ".log"
	for n := 2; exists(to) || exists(to+".gz"); n++ {
		to = fmt.Sprintf("%s-%s-%d.log", stem, day(last), n)
	}
	if err := os.Rename(path, to); err != nil {
		return err
	}
	err := compress(to)
	kept, globErr := filepath.Glob(stem + "-[0-9]*.log*")
	slices.SortFunc(kept, byAge)
	for len(kept) > Kept {
		err = errors.Join(err, os.Remove(kept[0]))
		kept = kept[1:]
	}
	return errors.Join(err, globErr)
}

func byAge(a, b string) int {
	at := func(path string) time.Time {
		info, err := os.Lstat(path)
		if err != nil {
			return time.Time{}
		}
		return info.ModTime()
	}
	return at(a).Compare(at(b))
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// compress puts a compressed file in the place of one, with its owner, mode and time. Where there
// is no room for both, the file stays as it is.
func compress(path string) error {
	from, err := os.Open(path)
	if err != nil {
		return err
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil {
		return err
	}
	to, err := os.OpenFile(path+".gz", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	if err != nil {
		return err
	}
	z := gzip.NewWriter(to)
	_, err = io.Copy(z, from)
	err = errors.Join(err, z.Close(), to.Chown(0, int(info.Sys().(*syscall.Stat_t).Gid)), to.Close())
	if err != nil {
		return errors.Join(err, os.Remove(path+".gz"))
	}
	return errors.Join(os.Chtimes(path+".gz", info.ModTime(), info.ModTime()), os.Remove(path))
}

// Page is a part of a site's log.
type Page struct {
	Lines []string
	// Next is where to go on from.
	Next string
}

const (
	mostLines = 1000
	mostBytes = 512 << 10
)

// Read returns the last lines of a site's log, or those after a place that an earlier page gave,
// waiting for them if there are none yet, until the context ends.
func Read(ctx context.Context, homes, account, site string, lines int, after string) (Page, error) {
	path := File(homes, account, site)
	for {
		page, err := readOnce(path, min(max(lines, 1), mostLines), after)
		if err != nil || len(page.Lines) > 0 || after == "" {
			return page, err
		}
		select {
		case <-ctx.Done():
			return page, nil
		case <-time.After(follow.Pause):
		}
	}
}

func readOnce(path string, lines int, after string) (Page, error) {
	page := Page{Lines: []string{}, Next: after}
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW, 0)
	if errors.Is(err, fs.ErrNotExist) {
		if page.Next == "" {
			page.Next = "0-0"
		}
		return page, nil
	}
	if err != nil {
		return page, err
	}
	defer f.Close()
	var st syscall.Stat_t
	if err := syscall.Fstat(int(f.Fd()), &st); err != nil {
		return page, err
	}
	var seen follow.Position
	if after != "" {
		if _, err := fmt.Sscanf(after, "%d-%d", &seen.Inode, &seen.Offset); err != nil {
			return page, fmt.Errorf("%q is no place in a log", after)
		}
	}
	from := seen.Offset
	switch {
	case after == "":
		from = max(0, st.Size-mostBytes)
	case seen.Inode != st.Ino || seen.Offset > st.Size || seen.Offset < 0:
		from = 0 // rotated meanwhile
	}
	text := make([]byte, min(st.Size-from, mostBytes))
	n, err := f.ReadAt(text, from)
	if err != nil && !errors.Is(err, io.EOF) {
		return page, err
	}
	text = text[:n]
	if after == "" && from > 0 { // begin with a whole line
		if at := bytes.IndexByte(text, '\n'); at >= 0 {
			from += int64(at + 1)
			text = text[at+1:]
		}
	}
	text = text[:bytes.LastIndexByte(text, '\n')+1]
	page.Next = fmt.Sprintf("%d-%d", st.Ino, from+int64(len(text)))
	for line := range bytes.Lines(text) {
		page.Lines = append(page.Lines, strings.ToValidUTF8(string(bytes.TrimSuffix(line, []byte("\n"))), "�"))
	}
	if after == "" && len(page.Lines) > lines {
		page.Lines = page.Lines[len(page.Lines)-lines:]
	}
	return page, nil
}
