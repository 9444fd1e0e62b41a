package asuser

import (
	"bufio"
	"bytes"
	"context"
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

const fileName = "file-as-user"

// longestFile is how long it may take to read a file.
const longestFile = 20 * time.Minute

// FileWork names a file that is to be read.
type FileWork struct {
	Home string `json:"home"`
	// Path is relative to the home.
	Path string `json:"path"`
	// Offset is how many bytes are left out at its beginning.
	Offset int64 `json:"offset"`
	// Only has its contents left out.
	Only bool `json:"only"`
}

// File is what is known of a file: its size in bytes, and when it was changed last.
type File struct {
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// StatFile tells what a plain file is, as the user with that number sees it.
func StatFile(ctx context.Context, uid int, w FileWork) (told File, err error) {
	w.Only = true
	err = ReadFile(ctx, uid, w, func(f File) (io.Writer, error) {
		told = f
		return io.Discard, nil
	})
	return told, err
}

// ReadFile reads a plain file as the user with that number. Begin is told what the file is, and
// says where its contents are written. A file that is changed meanwhile is an error.
func ReadFile(ctx context.Context, uid int, w FileWork, begin func(File) (io.Writer, error)) error {
	text, err := json.Marshal(w)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, longestFile)
	defer cancel()
	cmd := child(ctx, uid, fileName)
	cmd.Stdin = bytes.NewReader(text)
	var complaint bounded
	cmd.Stderr = &complaint
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	err = passOn(out, w.Offset, begin)
	if err != nil {
		cancel() // nobody reads what the child goes on writing
	}
	failed := cmd.Wait()
	if said := bytes.TrimSpace(complaint.Bytes()); len(said) > 0 {
		return errors.New(string(said))
	}
	if err != nil {
		return err
	}
	return failed
}

// passOn reads what the child has to say of the file, and passes on what follows.
func passOn(out io.Reader, offset int64, begin func(File) (io.Writer, error)) error {
	rest := bufio.NewReaderSize(out, 256<<10)
	line, err := rest.ReadSlice('\n')
	if err != nil {
		return fmt.Errorf("read a file: %w", err)
	}
	var about File
	if err := json.Unmarshal(line, &about); err != nil {
		return err
	}
	to, err := begin(about)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, io.LimitReader(rest, about.Size-offset))
	return err
}

// readFile is what the child does.
func readFile(in io.Reader, out io.Writer) error {
	if err := refuseRoot(); err != nil {
		return err
	}
	var w FileWork
	if err := json.NewDecoder(in).Decode(&w); err != nil {
		return err
	}
	home, err := os.OpenRoot(w.Home)
	if err != nil {
		return err
	}
	defer home.Close()
	f, err := home.OpenFile(path.Clean(w.Path), os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe would wait for a writer
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no file %s in the home", w.Path)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the account may not read %s", w.Path)
	case err != nil:
		return fmt.Errorf("%s cannot be read: %w", w.Path, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", w.Path)
	}
	if err := json.NewEncoder(out).Encode(File{info.Size(), info.ModTime()}); err != nil || w.Only {
		return err
	}
	if _, err := f.Seek(w.Offset, io.SeekStart); err != nil {
		return err
	}
	if _, err := io.Copy(out, io.LimitReader(f, info.Size()-w.Offset)); err != nil {
		return err
	}
	now, err := f.Stat()
	if err == nil && (now.Size() != info.Size() || !now.ModTime().Equal(info.ModTime())) {
		return fmt.Errorf("%s was changed while it was read", w.Path)
	}
	return err
}
