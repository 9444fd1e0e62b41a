package main

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"victualler/internal/hosting/plans"
)

// table is rows of cells; the first row is the heading.
type table [][]string

// print writes a document as the user wants it.
func (c *call) print(document any, t table) error {
	switch c.format() {
	case "json":
		encoder := json.NewEncoder(c.out)
		encoder.SetIndent("", "  ")
		return encoder.Encode(document)
	case "csv":
		w := csv.NewWriter(c.out)
		if err := w.WriteAll(t); err != nil {
			return err
		}
		return w.Error()
	}
	t.write(c.out, width(c.out))
	return nil
}

// figure is what is aligned to the right of its column: a number, a size, a
// share, unlimited, or a switch beside those.
var figure = regexp.MustCompile(`^(\d[\d.]*[BKMGT%]?|unlimited|-|on|off)?$`)

// write lays out columns, those of figures at the right; where the
// terminal is too narrow, the widest ones are cut.
func (t table) write(out io.Writer, limit int) {
	widths := make([]int, len(t[0]))
	right := make([]bool, len(t[0]))
	for i := range right {
		right[i] = len(t) > 1
	}
	for n, row := range t {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
			right[i] = right[i] && (n == 0 || figure.MatchString(cell))
		}
	}
	for total := func() int {
		sum := 2 * (len(widths) - 1)
		for _, w := range widths {
			sum += w
		}
		return sum
	}; limit > 0 && total() > limit; {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= 8 {
			break
		}
		widths[widest]--
	}
	for _, row := range t {
		var line strings.Builder
		for i, cell := range row {
			cell = cut(cell, widths[i])
			space := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if right[i] {
				cell = space + cell
			} else {
				cell += space
			}
			line.WriteString(cell + "  ")
		}
		fmt.Fprintln(out, strings.TrimRight(line.String(), " "))
	}
}

func cut(text string, n int) string {
	if utf8.RuneCountInString(text) <= n {
		return text
	}
	return string([]rune(text)[:n-1]) + "…"
}

// width is that of the terminal; 0 is no terminal, where nothing is cut.
func width(out io.Writer) int {
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 80
	}
	return w
}

// fields writes names and values below each other.
func fields(out io.Writer, pairs ...string) {
	longest := 0
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			longest = max(longest, utf8.RuneCountInString(pairs[i]))
		}
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(out, "%s%s  %s\n", pairs[i], strings.Repeat(" ", longest-utf8.RuneCountInString(pairs[i])),
				pairs[i+1])
		}
	}
}

// confirm asks before something is destroyed.
func (c *call) confirm(question string) error {
	if c.on("yes") {
		return nil
	}
	f, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return usageError{"there is no terminal to ask for confirmation; say --yes"}
	}
	fmt.Fprintf(c.err, "%s [y/N] ", question)
	answer, err := bufio.NewReader(c.in).ReadString('\n')
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "y") {
		return fmt.Errorf("not confirmed; nothing was done")
	}
	return nil
}

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func when(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return local(*t)
}

// size writes bytes; nil is none known.
func size(bytes *int64) string {
	if bytes == nil {
		return "-"
	}
	return plans.FormatSize(*bytes)
}

// limit writes a limit; nil is unlimited.
func limit(bytes *int64) string {
	if bytes == nil {
		return "unlimited"
	}
	return plans.FormatSize(*bytes)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
