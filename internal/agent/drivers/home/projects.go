package home

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"syscall"

	"victualler/internal/agent/projectquota"
	"victualler/internal/agentlink"
)

// projects keeps limits in an ext4 or XFS file system: what is in a home is of the project with the
// number of the account's user. A write beyond the limit fails with EDQUOT. Customers cannot change
// the project of a file: their sandboxes refuse that, and file transfer has no word for it.
type projects struct{ fs *projectquota.FS }

func (projects) kind() string { return "project" }

func (projects) enforcesLimits() bool { return true }

func (projects) unit() int64 { return projectquota.Block }

func (d projects) create(path string, uid int) error {
	if err := os.Mkdir(path, 0o700); err != nil {
		return err
	}
	home, err := openDir(path)
	if err != nil {
		return err
	}
	defer home.Close()
	return d.fs.SetProject(home, uint32(uid))
}

// adopt has what was made before the file system kept projects, or was restored, counted as well.
// What cannot be opened (pipes, sockets, links) holds nothing.
func (d projects) adopt(path string, uid int) error {
	home, err := openDir(path)
	if err != nil {
		return err
	}
	defer home.Close()
	if project, err := d.fs.Project(home); err != nil || project == uint32(uid) {
		return err
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return err
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return skipped(err)
		}
		if !entry.IsDir() && !entry.Type().IsRegular() || name == "." {
			return nil
		}
		// What it is may change before it is opened: not to wait, and not to follow, is said.
		f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
		if err != nil {
			return skipped(err)
		}
		defer f.Close()
		return d.fs.SetProject(f, uint32(uid))
	})
	if err != nil {
		return err
	}
	return d.fs.SetProject(home, uint32(uid)) // last: then all of it is counted
}

// skipped leaves out what has gone, or has become something else, meanwhile.
func skipped(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ELOOP) || errors.Is(err, syscall.ENXIO) {
		return nil
	}
	return err
}

func (d projects) limit(uid int) (*int64, error) { return d.fs.Limit(uint32(uid)) }

func (d projects) setLimit(uid int, bytes *int64) error { return d.fs.SetLimit(uint32(uid), bytes) }

func (d projects) used(ctx context.Context) (map[string]agentlink.Usage, error) {
	entries, err := os.ReadDir(Dir)
	if err != nil {
		return nil, err
	}
	used := map[string]agentlink.Usage{}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		info, err := e.Info()
		if err != nil || !info.IsDir() {
			continue
		}
		gid := info.Sys().(*syscall.Stat_t).Gid
		u, err := d.fs.Used(gid)
		if err != nil {
			return nil, errors.Join(errors.New("use of project "+strconv.Itoa(int(gid))), err)
		}
		used[e.Name()] = agentlink.Usage{Bytes: u.Bytes, Files: &u.Files}
	}
	return withMail(ctx, used, func(_ string, uid int, home agentlink.Usage) (agentlink.Usage, error) {
		if home.Files != nil {
			return home, nil
		}
		u, err := d.fs.Used(uint32(uid))
		return agentlink.Usage{Bytes: u.Bytes}, err
	})
}

func (d projects) remove(path string, uid int) error {
	if err := os.RemoveAll(path); err != nil {
		return err
	}
	return d.fs.SetLimit(uint32(uid), nil)
}

func (d projects) removeBeside(path string, uid int) error {
	if err := os.RemoveAll(path); err != nil {
		return err
	}
	left, err := d.fs.Used(uint32(uid))
	if err != nil || left.Files > 0 {
		return err
	}
	return d.fs.SetLimit(uint32(uid), nil)
}
