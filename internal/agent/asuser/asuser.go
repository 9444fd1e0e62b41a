// Package asuser works inside homes, and only ever as the account's own user: a
// child process gives up root before it opens anything. Whatever links a
// customer puts in the way, the child can do no more than the customer could,
// and os.Root keeps it below the home besides.
package asuser

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
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

const helperName = "as-user"

// longest is how long the work may take: what lies in a home may be made to keep
// whoever opens it waiting.
const longest = 30 * time.Second

// Hook runs the child process if this is one. Call it first in main.
func Hook() {
	if os.Args[0] == helperName {
		if err := work(os.Stdin); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}

// Do does the work as the user with that number, in the group of the same number.
func Do(ctx context.Context, uid int, w Work) error {
	text, err := json.Marshal(w)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/proc/self/exe")
	cmd.Args = []string{helperName}
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/bin:/bin"}
	cmd.Stdin = bytes.NewReader(text)
	var out bytes.Buffer
	cmd.Stderr = &out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true,
		Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid), Groups: []uint32{}}}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("work in %s as user %d: %w: %s", w.Home, uid, err, bytes.TrimSpace(out.Bytes()))
	}
	return nil
}

func work(in io.Reader) error {
	if os.Getuid() == 0 || os.Geteuid() == 0 {
		return errors.New("refused: this work is never done as root")
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
	for _, m := range w.Moves {
		if err := move(home, m); err != nil {
			return err
		}
	}
	for _, dir := range w.Directories {
		if err := home.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	// Which directories are empty is asked before anything is written.
	var wanted []NewFile
	for _, file := range w.NewFiles {
		if empty(home, path.Dir(file.Path)) {
			wanted = append(wanted, file)
		}
	}
	for _, file := range wanted {
		if err := home.WriteFile(file.Path, []byte(file.Content), 0o644); err != nil {
			return err
		}
	}
	return nil
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
	d, err := root.Open(dir)
	if err != nil {
		return false
	}
	defer d.Close()
	entries, err := d.ReadDir(1)
	return len(entries) == 0 && (err == nil || errors.Is(err, io.EOF) || errors.Is(err, fs.ErrNotExist))
}
