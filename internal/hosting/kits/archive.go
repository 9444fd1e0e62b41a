package kits

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

const (
	// MaxArchive is how many bytes an archive may have, packed.
	MaxArchive = 64 << 20
	// MaxUnpacked and MaxFiles bound what comes out of it.
	MaxUnpacked = 512 << 20
	MaxFiles    = 20_000
	// maxTemplate is how many bytes a file may have that is filled in.
	maxTemplate = 1 << 20
)

// Package is a kit that has been read and found in order.
type Package struct {
	Kit
	// Files are what the site gets, by path, and Size is how many bytes they have.
	Files []File
	Size  int64
	// Archive is the files in an archive made anew (tar, gzip), and Digest identifies document and
	// files, however they were packed: SHA-256 in hexadecimal digits.
	Archive []byte
	Digest  string
}

// File is one file of a kit.
type File struct {
	// Path is below files/.
	Path       string
	Executable bool
	Size       int64
	// Digest is the SHA-256 of its contents, in hexadecimal digits.
	Digest string
}

// entry is one entry of an archive, whoever has packed it.
type entry struct {
	header *tar.Header
	io.Reader
}

// ReadArchive reads a kit from an archive: tar, as it is or packed with gzip, of the kit's
// directory or of what is in it. Everything in it is looked at before anything is kept, and nothing
// is there but plain files within bounds.
//
// Refusals: InvalidInput.
func ReadArchive(archive []byte) (Package, error) {
	var p Package
	if len(archive) > MaxArchive {
		return p, refuse("an archive may have up to %s", plans.FormatSize(MaxArchive))
	}
	top, text, err := findDocument(archive)
	if err != nil {
		return p, err
	}
	if p.Kit, err = ReadDocument(text); err != nil {
		return p, err
	}
	var packed bytes.Buffer
	writer := newWriter(&packed)
	seen := map[string]bool{} // and whether it is a directory
	err = each(archive, func(e entry) error {
		name, isDir, err := p.place(e.header, top, seen)
		if err != nil || name == "" || isDir {
			return err
		}
		if len(p.Files) >= MaxFiles {
			return refuse("a kit may have up to %d files", MaxFiles)
		}
		file, err := p.take(writer, name, e)
		if err != nil {
			return err
		}
		p.Files, p.Size = append(p.Files, file), p.Size+file.Size
		return nil
	})
	if err = errors.Join(err, writer.Close()); err != nil {
		return Package{}, err
	}
	p.Archive = packed.Bytes()
	slices.SortFunc(p.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	if err := p.complete(); err != nil {
		return Package{}, err
	}
	sum := sha256.New()
	fmt.Fprintf(sum, "%d\n%s", len(text), text)
	for _, f := range p.Files {
		fmt.Fprintf(sum, "%q %t %s\n", f.Path, f.Executable, f.Digest)
	}
	p.Digest = hex.EncodeToString(sum.Sum(nil))
	return p, nil
}

func refuse(format string, args ...any) *refusal.Refusal {
	return refusal.Input("archive", format, args...)
}

// findDocument finds the document and the directory that it is in, which is the kit's.
func findDocument(archive []byte) (top string, text []byte, err error) {
	found := false
	err = each(archive, func(e entry) error {
		name := path.Clean(e.header.Name)
		dir, base := path.Split(name)
		if base != Document || strings.Count(name, "/") > 1 || found {
			return nil
		}
		if e.header.Typeflag != tar.TypeReg {
			return refuse("%s is no plain file", Document)
		}
		found, top = true, dir
		text, err = io.ReadAll(io.LimitReader(e, maxDocument+1))
		return err
	})
	if err == nil && !found {
		err = refuse("there is no %s in it: a kit is packed with its document and its directory %s", Document, FilesDir)
	}
	return top, text, err
}

// place tells where below files/ an entry belongs; empty is nowhere, as it says things to people.
func (p *Package) place(h *tar.Header, top string, seen map[string]bool) (name string, isDir bool, err error) {
	full := strings.TrimPrefix(h.Name, "./")
	isDir = h.Typeflag == tar.TypeDir
	if full = strings.TrimSuffix(full, "/"); full == "" || full == "." || full+"/" == top {
		return "", isDir, nil
	}
	if err := CheckPath(full); err != nil {
		return "", isDir, refuse("%s", err)
	}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeDir:
	case tar.TypeSymlink, tar.TypeLink:
		return "", isDir, refuse("%s is a link; a kit has plain files and directories alone", full)
	default:
		return "", isDir, refuse("%s is no plain file; a kit has plain files and directories alone", full)
	}
	inside, ours := strings.CutPrefix(full, top)
	if !ours {
		return "", isDir, refuse("%s is beside the kit's directory %s", full, strings.TrimSuffix(top, "/"))
	}
	if before, there := seen[inside]; there && (!before || !isDir) {
		return "", isDir, refuse("%s is there twice", full)
	}
	for parent := path.Dir(inside); parent != "."; parent = path.Dir(parent) {
		if is, there := seen[parent]; there && !is {
			return "", isDir, refuse("%s is a file and a directory", parent)
		}
		seen[parent] = true
	}
	seen[inside] = isDir
	below, site := strings.CutPrefix(inside, FilesDir+"/")
	switch {
	case site:
		return below, isDir, nil
	case inside == FilesDir && isDir, inside == Document, !isDir && ignored(inside):
		return "", isDir, nil
	}
	return "", isDir, refuse("%s is neither %s nor below %s/; beside them are only README, LICENSE and CHANGES",
		full, Document, FilesDir)
}

// ignored tells files that say something to people who have the kit's directory.
func ignored(name string) bool {
	stem, _, _ := strings.Cut(name, ".")
	return slices.Contains([]string{"README", "LICENSE", "CHANGES"}, strings.ToUpper(stem)) && !strings.Contains(name,
		"/")
}

// take puts a file into the archive that is made anew.
func (p *Package) take(w *writer, name string, e entry) (File, error) {
	f := File{Path: name, Executable: e.header.Mode&0o100 != 0, Size: e.header.Size}
	if f.Size < 0 || p.Size+f.Size > MaxUnpacked {
		return f, refuse("its files have more than %s", plans.FormatSize(MaxUnpacked))
	}
	sum := sha256.New()
	from := io.TeeReader(e, sum)
	if slices.Contains(p.Templates, name) {
		if f.Size > maxTemplate {
			return f, refuse("%s is filled in and may have up to %s", name, plans.FormatSize(maxTemplate))
		}
		text, err := io.ReadAll(from)
		if err != nil {
			return f, broken(err)
		}
		if err := p.checkTemplate(name, text); err != nil {
			return f, err
		}
		from = bytes.NewReader(text)
	}
	if err := w.add(f, from); err != nil {
		return f, err
	}
	f.Digest = hex.EncodeToString(sum.Sum(nil))
	return f, nil
}

// complete refuses a kit whose document names files that are not there.
func (p *Package) complete() error {
	if len(p.Files) == 0 {
		return refuse("there are no files below %s/", FilesDir)
	}
	for i, name := range p.Templates {
		if !slices.ContainsFunc(p.Files, func(f File) bool { return f.Path == name }) {
			return refusal.Input(fmt.Sprintf("templates.%d", i), "there is no file %s/%s", FilesDir, name)
		}
	}
	return nil
}

func broken(err error) error {
	if r := refusal.As(err); r != nil {
		return r
	}
	return refuse("it cannot be read: %s", err)
}

// each calls fn with every entry of an archive.
func each(archive []byte, fn func(entry) error) error {
	var from io.Reader = bytes.NewReader(archive)
	if bytes.HasPrefix(archive, []byte{0x1f, 0x8b}) {
		unpacked, err := gzip.NewReader(from)
		if err != nil {
			return broken(err)
		}
		from = unpacked
	}
	// What is no file counts as well: names alone can be many and long.
	reader := tar.NewReader(io.LimitReader(from, MaxUnpacked+MaxFiles*4096))
	for entries := 0; ; entries++ {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			if entries == 0 {
				return refuse("it is no archive, or an empty one; pack the kit with tar, and with gzip")
			}
			return nil
		}
		if err != nil {
			return broken(err)
		}
		if header.Typeflag == tar.TypeXGlobalHeader { // what an archive says of itself
			continue
		}
		if entries > 2*MaxFiles {
			return refuse("a kit may have up to %d files", MaxFiles)
		}
		if err := fn(entry{header, reader}); err != nil {
			return broken(err)
		}
	}
}

// writer makes an archive in which nothing depends on who packs it, and when.
type writer struct {
	*tar.Writer
	packed *gzip.Writer // nil for one that is not packed
}

func newWriter(to io.Writer) *writer {
	packed := gzip.NewWriter(to)
	return &writer{tar.NewWriter(packed), packed}
}

func (w *writer) add(f File, contents io.Reader) error {
	mode := int64(0o644)
	if f.Executable {
		mode = 0o755
	}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: f.Path, Mode: mode, Size: f.Size,
		Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err := io.Copy(w, contents)
	return err
}

func (w *writer) Close() error {
	err := w.Writer.Close()
	if w.packed != nil {
		err = errors.Join(err, w.packed.Close())
	}
	return err
}

// Pack makes an archive of a kit's directory, which [ReadArchive] reads. Links and whatever else is
// no plain file are refused.
//
// Refusals: InvalidInput.
func Pack(dir fs.FS) ([]byte, error) {
	var out bytes.Buffer
	w := newWriter(&out)
	count, size := 0, int64(0)
	err := fs.WalkDir(dir, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if !d.Type().IsRegular() {
			return refuse("%s is a link or no plain file; a kit has plain files and directories alone", name)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if count, size = count+1, size+info.Size(); count > MaxFiles || size > MaxUnpacked {
			return refuse("a kit may have up to %d files with %s", MaxFiles, plans.FormatSize(MaxUnpacked))
		}
		file, err := dir.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		return w.add(File{Path: name, Executable: info.Mode()&0o100 != 0, Size: info.Size()}, file)
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = refuse("the directory is not there")
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// WriteSite writes what a site gets as an archive (tar), with its templates filled in, and returns
// the digests of all files by path: SHA-256 in hexadecimal digits. Only are those that are written;
// nil is all.
//
// Refusals: InvalidInput.
func (k Kit) WriteSite(to io.Writer, archive []byte, values Values, only map[string]bool) (map[string]string, error) {
	digests := map[string]string{}
	w := writer{Writer: tar.NewWriter(to)}
	err := each(archive, func(e entry) error {
		f := File{Path: e.header.Name, Executable: e.header.Mode&0o100 != 0, Size: e.header.Size}
		var from io.Reader = e
		if slices.Contains(k.Templates, f.Path) {
			template, err := io.ReadAll(io.LimitReader(e, maxTemplate))
			if err != nil {
				return err
			}
			text, err := Fill(f.Path, template, values)
			if err != nil {
				return err
			}
			f.Size, from = int64(len(text)), bytes.NewReader(text)
		}
		sum := sha256.New()
		if only != nil && !only[f.Path] {
			if _, err := io.Copy(sum, from); err != nil {
				return err
			}
		} else if err := w.add(f, io.TeeReader(from, sum)); err != nil {
			return err
		}
		digests[f.Path] = hex.EncodeToString(sum.Sum(nil))
		return nil
	})
	return digests, errors.Join(err, w.Close())
}
