// Package follow reads along a log that a program writes, and has the program begin another when it
// has grown large.
package follow

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// Largest is how many bytes a log grows to before another is begun.
	Largest = 32 << 20
	// longestLine is where a line is cut off that has no end.
	longestLine = 64 << 10
	// Pause is how often it is looked whether there is more.
	Pause = 300 * time.Millisecond
)

// Position is how far a log has been read; the number tells the file from another of that name.
type Position struct {
	Inode  uint64 `json:"inode"`
	Offset int64  `json:"offset"`
}

// Log is a log that is read along. Make one with its exported fields set.
type Log struct {
	// Source is the file. Its directory must belong to root.
	Source string
	// Position is how far it has been read.
	Position Position
	// Take is given whole lines, and how far the log has been read with them. If it returns an
	// error, it is given them again.
	Take func(lines []byte, at Position) error
	// Reopen has the program begin another log, as the one it writes has another name.
	Reopen func(context.Context) error
	// Now is the time.
	Now func() time.Time

	file    *os.File
	asked   bool // the program has been asked to begin another
	stillAt time.Time
}

// Run reads along until the context ends. What goes wrong is told, and tried again.
func (l *Log) Run(ctx context.Context, wrong func(error)) {
	ticker := time.NewTicker(Pause)
	defer ticker.Stop()
	for {
		if err := l.Pass(ctx); err != nil {
			wrong(err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

func (l *Log) old() string { return l.Source + ".old" }

// Pass reads what there is.
func (l *Log) Pass(ctx context.Context) error {
	if l.file == nil {
		if err := l.open(); err != nil || l.file == nil {
			return err
		}
	}
	chunk := make([]byte, 1<<20)
	for ctx.Err() == nil {
		n, err := l.file.ReadAt(chunk, l.Position.Offset)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		end := bytes.LastIndexByte(chunk[:n], '\n') + 1
		if end == 0 && n > longestLine {
			end = n
		}
		if end == 0 {
			break // a line that is not whole is read again
		}
		at := Position{l.Position.Inode, l.Position.Offset + int64(end)}
		if err := l.Take(chunk[:end], at); err != nil {
			return err
		}
		l.Position, l.stillAt = at, l.Now()
	}
	return l.turn(ctx)
}

// open finds the file that was being read: the log itself, or the one put aside.
func (l *Log) open() error {
	for _, path := range []string{l.old(), l.Source} {
		f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW, 0)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		var st syscall.Stat_t
		if err := syscall.Fstat(int(f.Fd()), &st); err != nil {
			return errors.Join(err, f.Close())
		}
		if st.Ino != l.Position.Inode || st.Size < l.Position.Offset {
			l.Position = Position{Inode: st.Ino}
		}
		l.file, l.asked, l.stillAt = f, path == l.old(), l.Now()
		return nil
	}
	return nil
}

// turn puts a large log aside and has the program begin another; when nothing comes to the old one
// any more, it goes.
func (l *Log) turn(ctx context.Context) error {
	switch {
	case !l.asked && l.Position.Offset >= Largest:
		if err := os.Rename(l.Source, l.old()); err != nil {
			return err
		}
		l.asked = true
		return l.Reopen(ctx)
	case l.asked && l.Now().Sub(l.stillAt) > 3*time.Second:
		if _, err := os.Stat(l.Source); err != nil {
			return l.Reopen(ctx)
		}
		l.file.Close()
		l.file = nil
		return os.Remove(l.old())
	}
	return nil
}
