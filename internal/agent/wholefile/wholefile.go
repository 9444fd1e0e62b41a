// Package wholefile writes files that are there as a whole or not at all.
package wholefile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
)

// Write replaces a file as a whole: after a crash either the old or the
// new content is there. One writer at a time may be at a file. Meanwhile there is a hidden one
// beside it, always of the same name: what a killed writer has left goes with the next.
func Write(path string, content []byte, mode fs.FileMode, group string) error {
	dir, name := filepath.Split(path)
	unfinished := filepath.Join(dir, "."+name+".new")
	if err := os.Remove(unfinished); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(unfinished, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if group != "" {
		if err := chgrp(f, group); err != nil {
			return fmt.Errorf("write %s: %w", path, err)
		}
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	return syncDir(dir)
}

func chgrp(f *os.File, name string) error {
	group, err := user.LookupGroup(name)
	if err != nil {
		return err
	}
	gid, err := strconv.Atoi(group.Gid)
	if err != nil {
		return err
	}
	return f.Chown(-1, gid)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
