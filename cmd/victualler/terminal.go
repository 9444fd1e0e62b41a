package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// terminal is where the program reads and writes.
type terminal struct {
	in       *bufio.Reader
	out, err io.Writer
	// keyboard is the descriptor of what is read if somebody is there to type, else -1.
	keyboard int
	// columns is the width of what is written to; 0 where it is no terminal.
	columns func() int
}

// newTerminal finds out which of the three are a terminal.
func newTerminal(in, out, errOut *os.File) *terminal {
	t := &terminal{in: bufio.NewReader(in), out: out, err: errOut, keyboard: -1, columns: func() int { return 0 }}
	if fd := int(in.Fd()); term.IsTerminal(fd) {
		t.keyboard = fd
	}
	if fd := int(out.Fd()); term.IsTerminal(fd) {
		t.columns = func() int {
			if columns, _, err := term.GetSize(fd); err == nil && columns > 0 {
				return columns
			}
			return 80
		}
	}
	return t
}

// errInterrupted is how a question ends that is interrupted, by Ctrl-C or SIGTERM.
var errInterrupted = errors.New("interrupted; nothing was done")

// asks reports whether somebody is there to answer.
func (t *terminal) asks() bool { return t.keyboard >= 0 }

// await runs a read, which cannot be interrupted itself, until it or the context ends.
func await[T any](ctx context.Context, read func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	got := make(chan result, 1)
	go func() {
		value, err := read()
		got <- result{value, err}
	}()
	select {
	case r := <-got:
		return r.value, r.err
	case <-ctx.Done():
		var none T
		return none, errInterrupted
	}
}

// line reads a line after a prompt, without what ends it. At the end of the input it is io.EOF.
func (t *terminal) line(ctx context.Context, prompt string) (string, error) {
	fmt.Fprint(t.err, prompt)
	line, err := await(ctx, func() (string, error) { return t.in.ReadString('\n') })
	if err != nil && (line == "" || !errors.Is(err, io.EOF)) {
		if errors.Is(err, errInterrupted) && prompt != "" {
			fmt.Fprintln(t.err)
		}
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// secret reads a line that is not shown. The terminal stops to echo before the prompt is there, as
// what somebody types at once would be seen otherwise.
func (t *terminal) secret(ctx context.Context, prompt string) (string, error) {
	settings, err := unix.IoctlGetTermios(t.keyboard, unix.TCGETS)
	if err != nil {
		return "", err
	}
	silent := *settings
	silent.Lflag &^= unix.ECHO
	if err := unix.IoctlSetTermios(t.keyboard, unix.TCSETS, &silent); err != nil {
		return "", err
	}
	fmt.Fprint(t.err, prompt)
	text, err := await(ctx, func() ([]byte, error) { return term.ReadPassword(t.keyboard) })
	fmt.Fprintln(t.err)
	return string(text), errors.Join(err, unix.IoctlSetTermios(t.keyboard, unix.TCSETS, settings))
}

// rest reads all that is left of the input, most bytes at most.
func (t *terminal) rest(ctx context.Context, most int64) ([]byte, error) {
	text, err := await(ctx, func() ([]byte, error) { return io.ReadAll(io.LimitReader(t.in, most+1)) })
	if int64(len(text)) > most {
		return nil, usageError{fmt.Sprintf("standard input is longer than %d bytes", most)}
	}
	return text, err
}

// edited has somebody change a text in their editor; without a terminal, standard input takes its
// place.
func (c *call) edited(ctx context.Context, text string) (string, error) {
	const most = 64 << 10
	if !c.term.asks() {
		typed, err := c.term.rest(ctx, most)
		return string(typed), err
	}
	editor := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	if len(editor) == 0 {
		return "", usageError{"name your editor in $EDITOR, or give the text on standard input"}
	}
	file, err := os.CreateTemp("", "victualler-*.txt") // made with 0600
	if err != nil {
		return "", err
	}
	defer os.Remove(file.Name())
	if _, err := file.WriteString(text); err != nil {
		return "", errors.Join(err, file.Close())
	}
	if err := file.Close(); err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, editor[0], append(editor[1:], file.Name())...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return "", errInterrupted
		}
		return "", fmt.Errorf("%s ended with an error (%w); nothing was done", editor[0], err)
	}
	typed, err := readFile(file.Name())
	return string(typed), err
}

// nothingToChange refuses a change without anything to change.
func (c *call) nothingToChange() error {
	return usageError{"say what is to change; see victualler help " + c.name()}
}

// duration is what a flag says that takes a duration, in units: a number of units, or one such as
// 90s, 5m, 12h or 7d; nil where it was left out.
func (c *call) duration(name string, unit time.Duration) (*int64, error) {
	text := c.value(name)
	if text == "" {
		return nil, nil
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return &n, nil
	}
	d, err := time.ParseDuration(text)
	if days, is := strings.CutSuffix(text, "d"); is {
		var n int64
		n, err = strconv.ParseInt(days, 10, 32)
		d = time.Duration(n) * 24 * time.Hour
	}
	if err != nil {
		return nil, usageError{fmt.Sprintf("%s takes a duration such as 90s, 5m, 12h or 7d, not %q", dashed(name),
			text)}
	}
	n := int64(d / unit)
	return &n, nil
}

// yesNo is what a flag says that takes yes or no; nil where it was left out.
func (c *call) yesNo(name string) *bool {
	if c.value(name) == "" {
		return nil
	}
	on := c.value(name) == "yes"
	return &on
}

// readPassword asks for a password, or reads a line of standard input with --password-stdin; what
// is left of the input may be asked for next.
func (c *call) readPassword(ctx context.Context, prompt string) (string, error) {
	if c.on("password-stdin") {
		line, err := c.term.line(ctx, "")
		if errors.Is(err, io.EOF) {
			return "", usageError{"there is no password on standard input"}
		}
		return line, err
	}
	if !c.term.asks() {
		return "", usageError{"there is no terminal to ask for the password; use --password-stdin"}
	}
	return c.term.secret(ctx, prompt)
}

// confirm asks before something is done that cannot be undone, unless --yes or --preview is given.
func (c *call) confirm(ctx context.Context, question string) error {
	return c.confirmBy(ctx, question+" [y/N] ", func(answer string) bool { return strings.EqualFold(answer, "y") })
}

// confirmName is confirm for what destroys most: a name has to be typed.
func (c *call) confirmName(ctx context.Context, question, name string) error {
	return c.confirmBy(ctx, fmt.Sprintf("%s\nType %s to confirm: ", question, name), func(answer string) bool {
		return answer == name
	})
}

func (c *call) confirmBy(ctx context.Context, prompt string, agrees func(answer string) bool) error {
	if c.has("yes") && c.on("yes") || c.previews() {
		return nil
	}
	if !c.term.asks() {
		return usageError{"there is no terminal to ask for confirmation; add --yes"}
	}
	answer, err := c.term.line(ctx, prompt)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if !agrees(strings.TrimSpace(answer)) {
		return errors.New("not confirmed; nothing was done")
	}
	return nil
}
