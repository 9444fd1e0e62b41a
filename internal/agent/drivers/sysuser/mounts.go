package sysuser

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/logins"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// mountPoint is where a login finds its folder.
func mountPoint(login string) string {
	return filepath.Join(render.LoginDir, login, render.LoginFolder)
}

// folderError says that a login's folder cannot be shown, by its owner's doing.
type folderError struct {
	code homes.Code
	err  error
}

func (e *folderError) Error() string { return e.err.Error() }

// open opens a login's folder without following any link, and makes sure that it is the account's.
// It fails with a [folderError].
func open(m manifest.Manifest, l logins.Login) (int, error) {
	home, err := unix.Open(m.HomePath(), unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, &folderError{homes.Missing, fmt.Errorf("open %s: %w", m.HomePath(), err)}
	}
	if l.Folder == "" {
		return home, nil
	}
	defer unix.Close(home)
	fd, err := unix.Openat2(home, l.Folder, &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV})
	if err != nil {
		code := homes.Missing
		switch {
		case errors.Is(err, unix.ENOTDIR):
			code = homes.NotDirectory
		case errors.Is(err, unix.ELOOP), errors.Is(err, unix.EXDEV):
			code = homes.Link
		}
		return -1, &folderError{code, fmt.Errorf("%s cannot be opened as a folder of the account's: %w", l.Folder, err)}
	}
	var s unix.Stat_t
	if err := unix.Fstat(fd, &s); err != nil || int(s.Uid) != m.UID() {
		unix.Close(fd)
		return -1, &folderError{homes.NotTheirs, fmt.Errorf("%s does not belong to the account", l.Folder)}
	}
	return fd, nil
}

// mounted reports whether a login's folder is where it finds it.
func mounted(m manifest.Manifest, l logins.Login) bool {
	fd, err := open(m, l)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var folder, there unix.Stat_t
	if unix.Fstat(fd, &folder) != nil || unix.Lstat(mountPoint(l.Name), &there) != nil {
		return false
	}
	return folder.Dev == there.Dev && folder.Ino == there.Ino
}

// mount shows a login its folder. Where that cannot be opened, the
// login sees nothing, and the error is a [folderError].
func mount(m manifest.Manifest, l logins.Login) error {
	if err := unmount(l.Name); err != nil {
		return err
	}
	if err := os.MkdirAll(render.LoginDir, 0o755); err != nil {
		return err
	}
	// The way through here leads past the home's own door: it is open
	// to the account's group alone, too.
	above := filepath.Dir(mountPoint(l.Name))
	if err := os.Mkdir(above, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := errors.Join(os.Chown(above, 0, m.UID()), os.Chmod(above, 0o750)); err != nil {
		return err
	}
	if err := os.Mkdir(mountPoint(l.Name), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	fd, err := open(m, l)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	tree, err := unix.OpenTree(fd, "", unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_EMPTY_PATH)
	if err != nil {
		return fmt.Errorf("take hold of %s: %w", folderWords(l), err)
	}
	defer unix.Close(tree)
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV}
	if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &attr); err != nil {
		return fmt.Errorf("mount attributes of %s: %w", folderWords(l), err)
	}
	if err := unix.MoveMount(tree, "", unix.AT_FDCWD, mountPoint(l.Name), unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return fmt.Errorf("mount %s: %w", folderWords(l), err)
	}
	return nil
}

// unmount takes a login's directory away. What is mounted goes first: nothing below it is touched.
func unmount(login string) error {
	for {
		err := unix.Unmount(mountPoint(login), unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW)
		if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOENT) {
			break
		}
		if err != nil {
			return fmt.Errorf("unmount %s: %w", mountPoint(login), err)
		}
	}
	return errors.Join(gone(os.Remove(mountPoint(login))), gone(os.Remove(filepath.Dir(mountPoint(login)))))
}

// gone takes it for done if there was nothing.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
