package dumps

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"regexp"
	"slices"

	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/refusal"
)

// Contents is what is in a file of statements.
type Contents struct {
	// Engine is whose tools have written it; empty where that cannot be told. Version is that of
	// the server it came from, as they have written it down.
	Engine  databases.Engine `json:"engine,omitempty"`
	Version string           `json:"version,omitempty"`
	// Statements is how many there are, Size how long the file is without compression, in bytes.
	Statements int64 `json:"statements"`
	Size       int64 `json:"size"`
	// Tables are the names of those that are made, in the order of the file, [mostTables] at most.
	Tables []string `json:"tables"`
	// Found are the findings, by kind.
	Found []Found `json:"found"`
	// Whole says that the file was read to its end.
	Whole bool `json:"whole"`
}

// Found is a kind of finding with where it is.
type Found struct {
	Finding Finding `json:"finding"`
	// Line is the first one, Count how many statements there are.
	Line  int64 `json:"line"`
	Count int64 `json:"count"`
	// Example is the beginning of the first one.
	Example string `json:"example"`
}

const mostTables = 1000

// Look says what is in a file for a database. It reads limit bytes at most.
//
// Errors: a refusal ([refusal.InvalidInput]) where it is none of statements; what the reader
// returns.
func Look(in io.Reader, engine databases.Engine, database string, limit int64) (Contents, error) {
	limited := &io.LimitedReader{R: in, N: limit + 1}
	buffered := bufio.NewReaderSize(limited, 64<<10)
	head, err := buffered.Peek(64 << 10)
	if err != nil && !errors.Is(err, io.EOF) {
		return Contents{}, err
	}
	if err := Check(head); err != nil {
		return Contents{}, err
	}
	c := Contents{Tables: []string{}, Found: []Found{}}
	c.Engine, c.Version = origin(head)
	s := NewScanner(buffered, engine)
	for {
		st, err := s.Next()
		c.Size = s.Read()
		switch {
		case limited.N == 0: // the last statement may have been cut
			return c, nil
		case errors.Is(err, io.EOF):
			c.Whole = true
			return c, nil
		case err != nil:
			if long := (*TooLong)(nil); errors.As(err, &long) {
				err = refusal.New(refusal.InvalidInput, "the statement on line %d is longer than %d MiB; have the "+
					"program that wrote the file write shorter ones", long.Line, LongestStatement>>20).On("file")
			}
			return c, err
		}
		c.Statements++
		c.tell(st, engine, database)
	}
}

func (c *Contents) tell(st Statement, engine databases.Engine, database string) {
	if _, f := Mend(st, engine, database); f != "" {
		n := slices.IndexFunc(c.Found, func(one Found) bool { return one.Finding == f })
		if n < 0 {
			c.Found = append(c.Found, Found{Finding: f, Line: st.Line, Count: 1, Example: Excerpt(st.Text)})
		} else {
			c.Found[n].Count++
		}
	}
	if len(c.Tables) >= mostTables || firstWord(st.Text) != "create" {
		return
	}
	words := wordsOf(st.Text, 400)
	n := slices.Index(words[:min(4, len(words))], "table")
	if n < 0 {
		return
	}
	for n++; slices.Contains([]string{"if", "not", "exists"}, at(words, n)); n++ {
	}
	name := nameOf(at(words, n))
	if at(words, n+1) == "." {
		name += "." + nameOf(at(words, n+2))
	}
	if name != "" && !slices.Contains(c.Tables, name) {
		c.Tables = append(c.Tables, name)
	}
}

// Excerpt is the beginning of a statement, on one line.
func Excerpt(text []byte) string { return excerpt(text, 120) }

func excerpt(text []byte, most int) string {
	short := bytes.Join(bytes.Fields(text[:min(len(text), 4*most)]), []byte(" "))
	if out := []rune(string(bytes.ToValidUTF8(short, []byte("�")))); len(out) > most {
		return string(out[:most]) + "…"
	} else {
		return string(out)
	}
}

// values are texts in a statement, in either kind of quotes, the last one cut perhaps.
var values = regexp.MustCompile(`'(?:[^'\\]|\\.)*'?|"(?:[^"\\]|\\.)*"?`)

// Outline is the beginning of a statement, on one line, without the texts in it: they may be
// somebody's secrets.
func Outline(text []byte) string { return values.ReplaceAllString(Excerpt(text), "'…'") }

var numbers = regexp.MustCompile(`\b[0-9]+(?:\.[0-9]+)?\b`)

// series are values that were left out, one after the other.
var series = regexp.MustCompile(`((?:'…'|…)(?:, ?|\), ?\())(?:(?:'…'|…)(?:, ?|\), ?\())+`)

// Shape is the beginning of a statement without its values: the same for all that differ in nothing
// else.
func Shape(text []byte) string {
	short := numbers.ReplaceAllString(values.ReplaceAllString(excerpt(text, 400), "'…'"), "…")
	return series.ReplaceAllString(short, "$1")
}

// Check refuses what is no file of statements, by how it begins.
//
// Refusals: InvalidInput.
func Check(head []byte) error {
	refuse := func(format string, args ...any) error {
		return refusal.New(refusal.InvalidInput, format, args...).On("file")
	}
	switch {
	case len(head) == 0:
		return refuse("the file is empty")
	case bytes.HasPrefix(head, []byte("PGDMP")):
		return refuse("the file is an archive of pg_dump; make one of statements, with --format=plain")
	case bytes.HasPrefix(head, []byte("SQLite format 3")):
		return refuse("the file is a database of SQLite; make one of statements, with its command .dump")
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return refuse("the file is a ZIP archive; unpack it, or compress it with gzip or zstd instead")
	case bytes.IndexByte(head, 0) >= 0:
		return refuse("the file is no text; statements (SQL) are needed, as they are or compressed with gzip or zstd")
	}
	return nil
}

var origins = []struct {
	pattern *regexp.Regexp
	engine  databases.Engine
}{
	{regexp.MustCompile(`(?m)^-- MariaDB dump .*Distrib ([0-9.]+)`), databases.MariaDB},
	{regexp.MustCompile(`(?m)^-- Server version\s+([0-9.]+)`), databases.MariaDB},
	{regexp.MustCompile(`(?m)^-- (?:MariaDB|MySQL) dump ()`), databases.MariaDB},
	{regexp.MustCompile(`(?m)^-- Dumped from database version ([0-9.]+)`), databases.PostgreSQL},
	{regexp.MustCompile(`(?m)^-- PostgreSQL database dump()`), databases.PostgreSQL},
}

// origin is whose tools have written a file, and for which version.
func origin(head []byte) (databases.Engine, string) {
	head = head[:min(len(head), 4<<10)]
	for _, o := range origins {
		if m := o.pattern.FindSubmatch(head); m != nil {
			return o.engine, string(m[1])
		}
	}
	return "", ""
}
