package home

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/homes"
	"victualler/internal/manifest"
)

// Warnings implements agent.Warner: it tells of sites whose files visitors cannot get.
func (d *Driver) Warnings(m manifest.Manifest) []agentlink.Warning {
	var list []agentlink.Warning
	add := func(part, subject, path string, code homes.Code) {
		list = append(list, agentlink.Warning{Part: part, Subject: subject, Path: path, Code: code})
	}
	home, err := openDir(m.HomePath())
	if err != nil {
		add("home", "", "", homes.Missing)
		return list
	}
	defer home.Close()
	var s unix.Statfs_t
	if unix.Fstatfs(int(home.Fd()), &s) == nil && s.Flags&unix.ST_RDONLY != 0 {
		add("home", "", "", homes.ReadOnly)
	}
	d.mu.Lock()
	if _, held := d.held[m.UID()]; held {
		add("home", "", "", homes.TooManyFiles)
	} else if d.full[m.UID()] {
		add("home", "", "", homes.Full)
	}
	d.mu.Unlock()
	for _, site := range m.Sites {
		if site.Redirect != nil || site.MirrorOf != "" {
			continue
		}
		name := site.Domain.String()
		if code := judge(home, site.Root, m.UID()); code != "" {
			add("site", name, site.Root, code)
		} else if site.MovedFrom != "" && judge(home, site.MovedFrom, m.UID()) == "" {
			add("site", name, site.MovedFrom, homes.NotMoved)
		}
	}
	return list
}

// judge tells what is wrong with a directory from which the web server is to serve an account's
// files; nothing if all is well. It opens nothing: whatever lies there can neither be read nor keep
// anybody waiting.
func judge(home *os.File, path string, uid int) homes.Code {
	fd, err := unix.Openat(int(home.Fd()), path, unix.O_PATH|unix.O_CLOEXEC, 0)
	switch {
	case errors.Is(err, unix.ENOTDIR):
		return homes.NotDirectory
	case errors.Is(err, unix.ELOOP):
		return homes.LinkLoop
	case errors.Is(err, fs.ErrNotExist), err != nil:
		return homes.Missing
	}
	defer unix.Close(fd)
	var s unix.Stat_t
	switch err := unix.Fstat(fd, &s); {
	case err != nil:
		return homes.Missing
	case s.Mode&syscall.S_IFMT != syscall.S_IFDIR:
		return homes.NotDirectory
	case int(s.Uid) != uid:
		return homes.NotTheirs
	}
	// The web server has to get through every directory on the way, and is nobody there.
	for at := 0; at <= len(path); at++ {
		if at < len(path) && path[at] != '/' || at == 0 {
			continue
		}
		if unix.Fstatat(int(home.Fd()), path[:at], &s, 0) == nil && s.Mode&0o001 == 0 {
			return homes.Closed
		}
	}
	return ""
}
