package home

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
)

// disk counts what accounts hold, and keeps their limits, on one kind of file system. Accounts are
// known to it by the number of their system user: names of files and the paths that lead to them
// are for customers to choose.
type disk interface {
	// kind is the word for it that people read, such as "btrfs".
	kind() string
	// enforcesLimits tells whether a write beyond a limit fails.
	enforcesLimits() bool
	// unit is what limits are rounded up to, in bytes.
	unit() int64
	// create makes a home, counted as the account's from its first byte.
	create(path string, uid int) error
	// adopt has all of a home counted as the account's: one that was made otherwise, or restored.
	adopt(path string, uid int) error
	// limit reads the limit in force, in bytes; nil is none.
	limit(uid int) (*int64, error)
	// setLimit sets it; nil lifts it.
	setLimit(uid int, bytes *int64) error
	// used measures accounts by their name: homes, and mail, also that of accounts whose home is on
	// another server. Files are those of homes alone.
	used(ctx context.Context) (map[string]agentlink.Usage, error)
	// remove takes a home away, whatever is in it, and what counted it.
	remove(path string, uid int) error
	// removeBeside takes away a directory that was counted together with the home, which may stay.
	removeBeside(path string, uid int) error
}

// metered is for file systems without limits of their own: use is measured, and growth
// through Victualler is refused by the service; a write is not stopped.
type metered struct{}

func (metered) kind() string { return "metered" }

func (metered) enforcesLimits() bool { return false }

func (metered) unit() int64 { return 1 }

func (metered) create(path string, _ int) error { return os.Mkdir(path, 0o700) }

func (metered) adopt(string, int) error { return nil }

func (metered) limit(int) (*int64, error) { return nil, nil }

func (metered) setLimit(int, *int64) error { return nil }

func (metered) used(ctx context.Context) (map[string]agentlink.Usage, error) {
	entries, err := os.ReadDir(Dir)
	if err != nil {
		return nil, err
	}
	used := map[string]agentlink.Usage{}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if e.IsDir() {
			used[e.Name()] = measure(filepath.Join(Dir, e.Name()))
		}
	}
	return withMail(ctx, used, func(path string, _ int, home agentlink.Usage) (agentlink.Usage, error) {
		return agentlink.Usage{Bytes: home.Bytes + measure(path).Bytes, Files: home.Files}, nil
	})
}

// withMail has the mail of accounts counted to what their homes hold, if those are here: count says
// how, by the directory of the mail and the number of the account's system user.
func withMail(ctx context.Context, used map[string]agentlink.Usage,
	count func(path string, uid int, home agentlink.Usage) (agentlink.Usage,
		error)) (map[string]agentlink.Usage, error) {
	entries, err := os.ReadDir(manifest.MailDir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		path := filepath.Join(manifest.MailDir, e.Name())
		found, err := stat(path)
		if err != nil || found == nil {
			continue
		}
		account, is := manifest.AccountOfMailUID(int(found.Gid))
		if !is {
			continue
		}
		if used[e.Name()], err = count(path, manifest.UIDOf(account), used[e.Name()]); err != nil {
			return nil, err
		}
	}
	return used, nil
}

// measure adds up everything below a directory, without following links; what goes away meanwhile
// does not count.
func measure(dir string) agentlink.Usage {
	var files, bytes int64
	if root, err := os.OpenRoot(dir); err == nil {
		defer root.Close()
		_ = fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
			if err != nil {
				if errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				return fs.SkipDir
			}
			if info, err := entry.Info(); err == nil {
				if s, ok := info.Sys().(*syscall.Stat_t); ok {
					bytes += s.Blocks * 512
				}
			}
			if name != "." {
				files++
			}
			return nil
		})
	}
	return agentlink.Usage{Bytes: bytes, Files: &files}
}

func (metered) remove(path string, _ int) error { return os.RemoveAll(path) }

func (metered) removeBeside(path string, _ int) error { return os.RemoveAll(path) }

// openDir opens a directory that is no link, for the lifetime of a call.
func openDir(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_DIRECTORY, 0)
	if err != nil {
		return nil, fmt.Errorf("open the home: %w", err)
	}
	return f, nil
}
