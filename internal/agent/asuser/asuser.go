// Package asuser works inside homes, and only ever as the account's own user: a
// child process gives up root before it opens anything. Whatever links a
// customer puts in the way, the child can do no more than the customer could,
// and os.Root keeps it below the home besides.
package asuser

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"strings"
	"syscall"
	"time"
)

// Work is what is to be done below one home, in this order.
type Work struct {
	Home string `json:"home"`
	// Moves are directories that get another place, if they are there
	// and nothing is at the new place.
	Moves []Move `json:"moves"`
	// Directories are made where missing, with the ones above them.
	Directories []string `json:"directories"`
	// NewFiles are written only into directories that are empty: a customer's
	// content is never touched.
	NewFiles []NewFile `json:"new_files"`
}

// Move is a directory that gets another place.
type Move struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// NewFile is a file for an empty directory.
type NewFile struct {
	Path    string `json:"path"`
	Content string `json:"content"`
}

const (
	helperName = "as-user"
	enderName  = "end-processes"
)

// longest is how long the work may take: what lies in a home may be made to keep
// whoever opens it waiting.
const longest = 30 * time.Second

// A child does its work before other packages of the program are initialised, which takes longer
// than most of what it does.
func init() {
	if os.Args[0] == enderName && os.Getuid() != 0 && os.Geteuid() != 0 {
		_ = syscall.Kill(-1, syscall.SIGKILL) // every process that this user may end, but this one
		os.Exit(0)
	}
	do, is := map[string]func(io.Reader, io.Writer) error{helperName: work, treesName: workOnTree,
		fileName: readFile}[os.Args[0]]
	if is {
		if err := do(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}

// EndProcesses kills all processes of a user at once.
func EndProcesses(ctx context.Context, uid int) error {
	if uid <= 0 {
		return fmt.Errorf("refused: end the processes of user %d", uid)
	}
	err := child(ctx, uid, enderName).Run()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return nil // it may have been killed by what it was to end; whoever asks looks again
	}
	return err
}

// child is this program once more, under a name that init knows, as a user.
func child(ctx context.Context, uid int, name string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "/proc/self/exe")
	cmd.Args = []string{name}
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true,
		Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid), Groups: []uint32{}}}
	return cmd
}

// Do does the work as the user with that number, in the group of the same number. What cannot be
// done does not keep the rest from being done: the error is then [Incomplete], and any other error
// means that nothing may have been done.
func Do(ctx context.Context, uid int, w Work) error {
	text, err := json.Marshal(w)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	cmd := child(ctx, uid, helperName)
	cmd.Stdin = bytes.NewReader(text)
	var out, complaint bounded // the account's other processes could write in the child's place
	cmd.Stdout, cmd.Stderr = &out, &complaint
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("work in %s as user %d: %w: %s", w.Home, uid, err, bytes.TrimSpace(complaint.Bytes()))
	}
	var left []string
	if err := json.Unmarshal(out.Bytes(), &left); err != nil {
		return fmt.Errorf("work in %s as user %d: %w", w.Home, uid, err)
	}
	if len(left) > 0 {
		return Incomplete(left)
	}
	return nil
}

// bounded is a buffer that keeps the beginning of what is written: so many bytes, or 64 KiB.
type bounded struct {
	bytes.Buffer
	most int
}

func (b *bounded) Write(p []byte) (int, error) {
	most := cmp.Or(b.most, 64<<10)
	b.Buffer.Write(p[:min(len(p), most-min(most, b.Len()))])
	return len(p), nil
}

// Incomplete lists in words what could not be done.
type Incomplete []string

func (i Incomplete) Error() string { return strings.Join(i, "; ") }

// refuseRoot is an error in a process that has not given up root.
func refuseRoot() error {
	if os.Getuid() == 0 || os.Geteuid() == 0 {
		return errors.New("refused: this work is never done as root")
	}
	return nil
}

// work does what it is told on standard input, and tells on standard output what it could not do.
func work(in io.Reader, out io.Writer) error {
	if err := refuseRoot(); err != nil {
		return err
	}
	syscall.Umask(0o022)
	var w Work
	if err := json.NewDecoder(in).Decode(&w); err != nil {
		return err
	}
	home, err := os.OpenRoot(w.Home)
	if err != nil {
		return err
	}
	defer home.Close()
	left := Incomplete{}
	try := func(err error) {
		if err != nil {
			left = append(left, err.Error())
		}
	}
	for _, m := range w.Moves {
		try(move(home, m))
	}
	for _, dir := range w.Directories {
		try(home.MkdirAll(dir, 0o755))
	}
	// Which directories are empty is asked before anything is written.
	var wanted []NewFile
	for _, file := range w.NewFiles {
		if empty(home, path.Dir(file.Path)) {
			wanted = append(wanted, file)
		}
	}
	for _, file := range wanted {
		try(home.WriteFile(file.Path, []byte(file.Content), 0o644))
	}
	return json.NewEncoder(out).Encode(left)
}

// move renames a directory. Done before, it changes nothing; what is at
// the new place already stays.
func move(home *os.Root, m Move) error {
	from, err := home.Lstat(m.From)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !from.IsDir() {
		return fmt.Errorf("%s is not a directory and was not moved", m.From)
	}
	if _, err := home.Lstat(m.To); err == nil && !empty(home, m.To) {
		return fmt.Errorf("%s holds files already; %s was not moved there", m.To, m.From)
	} else if err == nil {
		if err := home.Remove(m.To); err != nil {
			return err
		}
	}
	if err := home.MkdirAll(path.Dir(m.To), 0o755); err != nil {
		return err
	}
	return home.Rename(m.From, m.To)
}

func empty(root *os.Root, dir string) bool {
	// What is no directory is not opened: a pipe would wait for whoever writes.
	d, err := root.OpenFile(dir, os.O_RDONLY|syscall.O_DIRECTORY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer d.Close()
	entries, err := d.ReadDir(1)
	return len(entries) == 0 && (err == nil || errors.Is(err, io.EOF) || errors.Is(err, fs.ErrNotExist))
}
