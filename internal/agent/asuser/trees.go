package asuser

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"syscall"
	"time"
)

const treesName = "trees-as-user"

// longestTree is how long work with a whole tree of files may take.
const longestTree = 10 * time.Minute

// TreeWork is one piece of work with a tree of files below a home. All paths are relative to the
// home.
type TreeWork struct {
	Home string `json:"home"`
	// Do is what: one of those below.
	Do string `json:"do"`
	// Tree is the tree that it is about.
	Tree string `json:"tree"`
	// New is where another tree is that is to take its place, and Before where Tree itself, or a
	// copy of it, is meanwhile.
	New    string `json:"new,omitempty"`
	Before string `json:"before,omitempty"`
	// Paths are files below Tree.
	Paths []string `json:"paths,omitempty"`
	// Ignore is the SHA-256 of files that count as none, in hexadecimal digits.
	Ignore string `json:"ignore,omitempty"`
}

// What can be done with a tree. All of it can be repeated, wherever it was cut off.
const (
	// Unpack makes New from an archive (tar), of which only plain files are taken, and tells what
	// is in Tree.
	Unpack = "unpack"
	// Copy makes Before anew with what is in Tree: files, directories and links, as they are.
	Copy = "copy"
	// Place moves Tree to Before, and New to Tree.
	Place = "place"
	// Restore moves Before back to Tree, if it is there, and deletes New.
	Restore = "restore"
	// Discard deletes New and Before.
	Discard = "discard"
	// Look tells what is in Tree.
	Look = "look"
	// Patch puts the files of an archive into Tree and deletes those of Paths.
	Patch = "patch"
)

// Tree is what is in a tree of files.
type Tree struct {
	// Digests are of the Paths that are plain files: SHA-256 in hexadecimal digits.
	Digests map[string]string `json:"digests"`
	// Others tells that there is more than that, but for what is ignored, and Example is one of
	// these.
	Others  bool   `json:"others"`
	Example string `json:"example,omitempty"`
}

// WorkOnTree does one piece of work as the user with that number. Archive is what Unpack and Patch
// take; nil for none.
func WorkOnTree(ctx context.Context, uid int, w TreeWork, archive io.Reader) (Tree, error) {
	var told Tree
	text, err := json.Marshal(w)
	if err != nil {
		return told, err
	}
	ctx, cancel := context.WithTimeout(ctx, longestTree)
	defer cancel()
	cmd := child(ctx, uid, treesName)
	cmd.Stdin = bytes.NewReader(append(text, '\n'))
	if archive != nil {
		cmd.Stdin = io.MultiReader(cmd.Stdin, archive)
	}
	cmd.WaitDelay = time.Second // whoever sends the archive may be slower than a child that has ended
	var complaint bounded
	out := bounded{most: maxTold}
	cmd.Stdout, cmd.Stderr = &out, &complaint
	if err := cmd.Run(); err != nil {
		if said := bytes.TrimSpace(complaint.Bytes()); len(said) > 0 {
			return told, fmt.Errorf("%s", said)
		}
		return told, fmt.Errorf("work on %s as user %d: %w", w.Tree, uid, err)
	}
	return told, json.Unmarshal(out.Bytes(), &told)
}

// maxTold is how many bytes a child may tell of a tree: the digests of as many files as a kit has.
const maxTold = 16 << 20

// workOnTree is what the child does: a line of JSON, and the archive behind it, come in.
func workOnTree(in io.Reader, out io.Writer) error {
	if err := refuseRoot(); err != nil {
		return err
	}
	syscall.Umask(0o022)
	var w TreeWork
	rest := bufio.NewReader(in)
	text, err := rest.ReadBytes('\n')
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, &w); err != nil {
		return err
	}
	home, err := os.OpenRoot(w.Home)
	if err != nil {
		return err
	}
	defer home.Close()
	told := Tree{Digests: map[string]string{}}
	switch w.Do {
	case Unpack:
		if err = errors.Join(look(home, w, &told), removeAll(home, w.New)); err == nil {
			err = unpack(home, w.New, rest)
		}
	case Patch:
		for _, p := range w.Paths {
			if failed := home.Remove(path.Join(w.Tree, p)); failed != nil && !errors.Is(failed, fs.ErrNotExist) {
				return failed
			}
		}
		err = unpack(home, w.Tree, rest)
	case Copy:
		if err = removeAll(home, w.Before); err == nil {
			err = copyTree(home, w.Tree, w.Before)
		}
	case Place:
		err = place(home, w)
	case Restore:
		err = restore(home, w)
	case Discard:
		err = errors.Join(removeAll(home, w.New), removeAll(home, w.Before))
	case Look:
		err = look(home, w, &told)
	default:
		err = fmt.Errorf("nobody knows how to %q", w.Do)
	}
	if err != nil {
		return err
	}
	return json.NewEncoder(out).Encode(told)
}

// removeAll deletes a tree, also where its owner has taken rights from directories.
func removeAll(home *os.Root, tree string) error {
	if tree == "" {
		return nil
	}
	err := home.RemoveAll(tree)
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	open(home, tree, 0)
	return home.RemoveAll(tree)
}

// open gives the owner all rights to the directories of a tree. What fails shows when they are
// deleted.
func open(home *os.Root, dir string, depth int) {
	if home.Chmod(dir, 0o700) != nil || depth > 200 {
		return
	}
	entries, err := fs.ReadDir(home.FS(), dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		if e.IsDir() {
			open(home, path.Join(dir, e.Name()), depth+1)
		}
	}
}

// unpack puts the plain files of an archive below a directory.
func unpack(home *os.Root, tree string, archive io.Reader) error {
	if err := home.MkdirAll(tree, 0o755); err != nil {
		return err
	}
	below, err := home.OpenRoot(tree)
	if err != nil {
		return err
	}
	defer below.Close()
	reader := tar.NewReader(archive)
	for {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, archive)
			return err
		}
		if err != nil {
			return fmt.Errorf("the files did not come whole: %w", err)
		}
		if header.Typeflag != tar.TypeReg {
			return fmt.Errorf("%s is no plain file", header.Name)
		}
		if err := writeFile(below, header, reader); err != nil {
			return err
		}
	}
}

// writeFile writes one file, in the place of whatever is there.
func writeFile(below *os.Root, header *tar.Header, contents io.Reader) error {
	if err := below.MkdirAll(path.Dir(header.Name), 0o755); err != nil {
		return err
	}
	name := path.Join(path.Dir(header.Name), "."+path.Base(header.Name)+".new")
	if err := below.RemoveAll(name); err != nil {
		return err
	}
	f, err := below.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, fs.FileMode(header.Mode)&0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, contents)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return below.Rename(name, header.Name)
}

// copyTree copies plain files, directories and links; sockets and pipes are left out.
func copyTree(home *os.Root, from, to string) error {
	return fs.WalkDir(home.FS(), from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		target := path.Join(to, name[len(from):])
		switch {
		case d.IsDir():
			return home.MkdirAll(target, info.Mode().Perm()|0o700)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := home.Readlink(name)
			if err != nil {
				return err
			}
			return home.Symlink(link, target)
		case !d.Type().IsRegular():
			return nil
		}
		return copyFile(home, name, target, info)
	})
}

func copyFile(home *os.Root, from, to string, info fs.FileInfo) error {
	in, err := home.OpenFile(from, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := home.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in) // which shares the blocks where the file system can
	return errors.Join(err, out.Close(), home.Chtimes(to, info.ModTime(), info.ModTime()))
}

func isThere(home *os.Root, name string) bool {
	_, err := home.Lstat(name)
	return err == nil
}

// place has New take the place of Tree. A killed one is repeated: what is at Before then is what
// Tree was.
func place(home *os.Root, w TreeWork) error {
	if !isThere(home, w.New) && isThere(home, w.Before) && isThere(home, w.Tree) {
		return nil // it is done
	}
	if !isThere(home, w.New) {
		return errors.New("what is to be placed is not there any more")
	}
	if isThere(home, w.Before) {
		// Something may have made Tree anew meanwhile: an empty directory, as a rule.
		if err := removeAll(home, w.Tree); err != nil {
			return err
		}
	} else if isThere(home, w.Tree) {
		if err := home.Rename(w.Tree, w.Before); err != nil {
			return err
		}
	} else if err := home.MkdirAll(w.Before, 0o755); err != nil {
		return err
	}
	return home.Rename(w.New, w.Tree)
}

func restore(home *os.Root, w TreeWork) error {
	if isThere(home, w.Before) {
		if err := removeAll(home, w.Tree); err != nil {
			return err
		}
		if err := home.Rename(w.Before, w.Tree); err != nil {
			return err
		}
	}
	return removeAll(home, w.New)
}

// look tells the digests of some files of a tree, and whether there is anything else.
func look(home *os.Root, w TreeWork, told *Tree) error {
	known := map[string]bool{}
	for _, p := range w.Paths {
		known[p] = true
	}
	err := fs.WalkDir(home.FS(), w.Tree, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && name == w.Tree {
			return fs.SkipAll
		}
		if err != nil || d.IsDir() {
			return err
		}
		below := name[len(w.Tree)+1:]
		digest := ""
		if d.Type().IsRegular() && (known[below] || w.Ignore != "") {
			if digest, err = digestOf(home, name); err != nil {
				return err
			}
		}
		switch {
		case known[below] && digest != "":
			told.Digests[below] = digest
		case digest == "" || digest != w.Ignore:
			if told.Others, told.Example = true, below; len(known) == 0 {
				return fs.SkipAll
			}
		}
		return nil
	})
	return err
}

// largestDigested is how many bytes a file may have that is read: more than any file of a kit, and
// not as many as a sparse file can have.
const largestDigested = 512 << 20

func digestOf(home *os.Root, name string) (string, error) {
	f, err := home.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if info.Size() > largestDigested {
		return "larger than any file of a kit", nil
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, io.LimitReader(f, largestDigested)); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}
