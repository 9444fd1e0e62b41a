// Package dumps reads files of SQL statements, as the tools of MariaDB and PostgreSQL write them:
// it splits them into statements, says what is in them, and mends what has one meaning here. The
// files are strangers': nothing in them is executed by it, and what it keeps of them is bounded.
package dumps

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"victualler/internal/hosting/databases"
)

// LongestStatement is how long a statement may be, in bytes: as much as MariaDB takes in one.
const LongestStatement = 64 << 20

// Statement is one statement of a file.
type Statement struct {
	// Line is the line on which it begins, from 1.
	Line int64
	// Text is the statement without what ends it. It is valid until the next one is read.
	Text []byte
	// Command says that it is none, but a line for the engine's own client, such as \connect.
	Command bool
	// Rows says that rows follow it in the file, to be read with [Scanner.Rows]: COPY … FROM stdin.
	Rows bool
}

// TooLong is the error for a statement of more than [LongestStatement].
type TooLong struct{ Line int64 }

// Error implements error.
func (e *TooLong) Error() string {
	return fmt.Sprintf("the statement on line %d is longer than %d MiB", e.Line, LongestStatement>>20)
}

// Scanner splits a file into statements, by the rules of an engine's own client. Make one with
// [NewScanner].
type Scanner struct {
	in     io.Reader
	engine databases.Engine
	// buffer holds what has been read; what is before start has been returned.
	buffer     []byte
	start      int
	ended      bool
	failed     error
	line, read int64
	delimiter  []byte
	rows       bool
}

// NewScanner returns a scanner of a text.
func NewScanner(in io.Reader, engine databases.Engine) *Scanner {
	return &Scanner{in: in, engine: engine, line: 1, delimiter: []byte(";")}
}

// Line is the line that has been reached, from 1.
func (s *Scanner) Line() int64 { return s.line }

// Read is how many bytes have been returned.
func (s *Scanner) Read() int64 { return s.read }

// fill reads more behind what there is, and reports whether there was anything.
func (s *Scanner) fill() bool {
	if s.ended {
		return false
	}
	if s.start > 0 && s.start > len(s.buffer)/2 {
		n := copy(s.buffer, s.buffer[s.start:])
		s.buffer, s.start = s.buffer[:n], 0
	}
	if cap(s.buffer)-len(s.buffer) < 64<<10 {
		larger := make([]byte, len(s.buffer)-s.start, max(2*(len(s.buffer)-s.start), 256<<10))
		copy(larger, s.buffer[s.start:])
		s.buffer, s.start = larger, 0
	}
	for {
		n, err := s.in.Read(s.buffer[len(s.buffer):cap(s.buffer)])
		s.buffer = s.buffer[:len(s.buffer)+n]
		if err != nil {
			s.ended = true
			if !errors.Is(err, io.EOF) {
				s.failed = err
			}
		}
		if n > 0 || s.ended {
			return n > 0
		}
	}
}

// take returns the next n bytes, and counts their lines.
func (s *Scanner) take(n int) []byte {
	text := s.buffer[s.start : s.start+n]
	s.start += n
	s.read += int64(n)
	s.line += int64(bytes.Count(text, []byte("\n")))
	return text
}

// rest is what has been read and not been returned.
func (s *Scanner) rest() []byte { return s.buffer[s.start:] }

// Next returns the next statement; the error at the end is io.EOF. What has nothing but comments in
// it is left out.
//
// Errors: [TooLong]; what the reader returns.
func (s *Scanner) Next() (Statement, error) {
	if s.rows { // nobody wanted them
		if _, err := io.Copy(io.Discard, s.Rows()); err != nil {
			return Statement{}, err
		}
	}
	for {
		command, err := s.skipSpace()
		if err != nil {
			return Statement{}, err
		}
		line := s.line
		if command {
			text := s.takeLine()
			if delimiter, is := cutWord(text, "delimiter"); is && s.engine == databases.MariaDB {
				if delimiter = bytes.TrimSpace(delimiter); len(delimiter) > 0 && len(delimiter) <= 16 {
					s.delimiter = bytes.Clone(delimiter)
				}
				continue
			}
			return Statement{Line: line, Text: text, Command: true}, nil
		}
		text, meant, err := s.statement(line)
		if err != nil {
			return Statement{}, err
		}
		if !meant {
			continue
		}
		st := Statement{Line: line, Text: text}
		if s.engine == databases.PostgreSQL && copiesRows(text) {
			// What follows is read into the same buffer.
			st.Text, st.Rows, s.rows = bytes.Clone(text), true, true
			for bytes.IndexByte(s.rest(), '\n') < 0 && len(s.rest()) < 4<<10 && s.fill() {
			}
			s.take(bytes.IndexByte(s.rest(), '\n') + 1) // the rows begin on the next line
		}
		return st, nil
	}
}

// skipSpace skips blanks, and reports whether what comes next is a line for the client.
func (s *Scanner) skipSpace() (command bool, err error) {
	for {
		rest := s.rest()
		n := 0
		for n < len(rest) && (rest[n] == ' ' || rest[n] == '\t' || rest[n] == '\n' || rest[n] == '\r') {
			n++
		}
		s.take(n)
		rest = s.rest()
		if bytes.HasPrefix(rest, []byte("\xef\xbb\xbf")) && s.read == 0 { // a byte order mark
			s.take(3)
			continue
		}
		if len(rest) < 64 && s.fill() {
			continue
		}
		if len(rest) == 0 {
			if s.failed != nil {
				return false, s.failed
			}
			return false, io.EOF
		}
		if rest[0] == '\\' {
			return true, nil
		}
		_, is := cutWord(rest[:min(len(rest), 64)], "delimiter")
		return is && s.engine == databases.MariaDB, nil
	}
}

// takeLine returns the line that comes next, without its end, 4 KiB at most.
func (s *Scanner) takeLine() []byte {
	const most = 4 << 10
	for {
		if at := bytes.IndexByte(s.rest(), '\n'); at >= 0 {
			line := s.take(at + 1)
			return bytes.TrimRight(line[:min(at, most)], "\r")
		}
		if len(s.rest()) > most || !s.fill() {
			return s.take(min(len(s.rest()), most))
		}
	}
}

// cutWord returns what follows a word, in whatever case, and a blank.
func cutWord(text []byte, word string) ([]byte, bool) {
	if len(text) <= len(word) || !bytes.EqualFold(text[:len(word)], []byte(word)) ||
		text[len(word)] != ' ' && text[len(word)] != '\t' {
		return nil, false
	}
	return text[len(word)+1:], true
}

// lexer is how far a statement has been read.
type lexer struct {
	s *Scanner
	// at is the next byte, from the start of the statement.
	at int
	// parentheses are those that are open, of PostgreSQL alone.
	parentheses int
	// words is how many there have been; routine says that they are of one, whose body may be
	// statements between BEGIN and END, depth of them open.
	words, depth int
	create       bool
	routine      bool
	meant        bool
}

// peek returns the byte at a place behind the next, reading on as far as needed; 0 is none.
func (l *lexer) peek(behind int) byte {
	for l.s.start+l.at+behind >= len(l.s.buffer) {
		if !l.s.fill() {
			return 0
		}
	}
	return l.s.buffer[l.s.start+l.at+behind]
}

// statement returns the next statement, and whether anything is meant by it. What ends it is
// skipped.
func (s *Scanner) statement(line int64) (text []byte, meant bool, err error) {
	l := lexer{s: s}
	mariadb := s.engine == databases.MariaDB
	first := s.delimiter[0]
	for {
		if l.at > LongestStatement {
			return nil, false, &TooLong{Line: line}
		}
		c := l.peek(0)
		if c == 0 && s.start+l.at >= len(s.buffer) {
			if s.failed != nil {
				return nil, false, s.failed
			}
			return s.take(l.at), l.meant, nil
		}
		if c == first && l.parentheses == 0 && l.depth == 0 && l.follows(s.delimiter) {
			whole := s.take(l.at + len(s.delimiter))
			return whole[:l.at], l.meant, nil
		}
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			l.at++
		case !l.meant && (c == '\\' || mariadb && (c == 'd' || c == 'D') && l.setsDelimiter()):
			return s.take(l.at), false, nil // a line for the client, behind comments
		case c == '\'':
			l.at++
			l.meant = true
			l.quoted('\'', mariadb)
		case c == '"':
			l.at++
			l.meant = true
			l.quoted('"', mariadb)
		case c == '`' && mariadb:
			l.at++
			l.meant = true
			l.quoted('`', false)
		case c == '-' && l.peek(1) == '-' && (!mariadb || isBlank(l.peek(2))), c == '#' && mariadb:
			l.skipTo('\n')
		case c == '/' && l.peek(1) == '*' && (!mariadb || !l.executed()):
			l.comment(!mariadb)
		case c == '$' && !mariadb:
			l.meant = true
			l.dollar()
		case (c == 'e' || c == 'E') && !mariadb && l.peek(1) == '\'':
			l.at += 2
			l.meant = true
			l.quoted('\'', true)
		case isLetter(c):
			l.meant = true
			l.word(!mariadb)
		default:
			l.meant = true
			if !mariadb && c == '(' {
				l.parentheses++
			} else if !mariadb && c == ')' && l.parentheses > 0 {
				l.parentheses--
			}
			l.at++
		}
	}
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == 0 }

func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

// follows reports whether a text comes next.
func (l *lexer) follows(text []byte) bool {
	if len(text) > 1 {
		l.peek(len(text) - 1)
	}
	rest := l.s.buffer[l.s.start+l.at:]
	return bytes.HasPrefix(rest, text)
}

// setsDelimiter reports whether the word comes next by which a file sets what ends statements.
func (l *lexer) setsDelimiter() bool {
	l.peek(len("delimiter "))
	_, is := cutWord(l.s.buffer[l.s.start+l.at:], "delimiter")
	return is
}

// executed reports whether a comment that begins here is one that MariaDB executes.
func (l *lexer) executed() bool {
	return l.peek(2) == '!' || l.peek(2) == 'M' && l.peek(3) == '!'
}

// quoted reads up to the end of what is quoted.
func (l *lexer) quoted(quote byte, backslash bool) {
	for {
		rest := l.s.buffer[l.s.start+l.at:]
		n := 0
		if backslash {
			for n < len(rest) && rest[n] != quote && rest[n] != '\\' {
				n++
			}
		} else if n = bytes.IndexByte(rest, quote); n < 0 {
			n = len(rest)
		}
		l.at += n
		switch {
		case n == len(rest):
			if l.at > LongestStatement || !l.s.fill() {
				return
			}
		case rest[n] == quote:
			l.at++ // a doubled one begins the next quoted text at once
			return
		default:
			if l.peek(1) == 0 && l.s.start+l.at+1 >= len(l.s.buffer) {
				l.at++
				return
			}
			l.at += 2
		}
	}
}

// skipTo skips up to a byte, which stays.
func (l *lexer) skipTo(c byte) {
	for {
		rest := l.s.buffer[l.s.start+l.at:]
		if n := bytes.IndexByte(rest, c); n >= 0 {
			l.at += n
			return
		}
		l.at += len(rest)
		if l.at > LongestStatement || !l.s.fill() {
			return
		}
	}
}

// comment skips one, with those within it if they nest.
func (l *lexer) comment(nests bool) {
	depth := 0
	for l.at <= LongestStatement {
		c, next := l.peek(0), l.peek(1)
		switch {
		case c == 0 && l.s.start+l.at >= len(l.s.buffer):
			return
		case c == '/' && next == '*' && (nests || depth == 0):
			depth++
			l.at += 2
		case c == '*' && next == '/':
			l.at += 2
			if depth--; depth == 0 {
				return
			}
		default:
			l.at++
		}
	}
}

// dollar reads a text between dollar signs, such as $body$ … $body$, or what is none.
func (l *lexer) dollar() {
	n := 1
	for n <= 64 && (isLetter(l.peek(n)) || n > 1 && l.peek(n) >= '0' && l.peek(n) <= '9') {
		n++
	}
	if l.peek(n) != '$' {
		l.at++
		return
	}
	tag := bytes.Clone(l.s.buffer[l.s.start+l.at : l.s.start+l.at+n+1])
	l.at += n + 1
	for {
		rest := l.s.buffer[l.s.start+l.at:]
		if at := bytes.Index(rest, tag); at >= 0 {
			l.at += at + len(tag)
			return
		}
		l.at += max(0, len(rest)-len(tag)+1)
		if l.at > LongestStatement {
			return
		}
		if !l.s.fill() {
			l.at = len(l.s.buffer) - l.s.start
			return
		}
	}
}

// word reads a word. Of PostgreSQL, the body of a routine may be statements.
func (l *lexer) word(bodies bool) {
	n := 1
	for c := l.peek(n); isLetter(c) || c >= '0' && c <= '9' || c == '$'; c = l.peek(n) {
		if n++; l.at+n > LongestStatement {
			break
		}
	}
	if bodies && (l.words < 4 || l.routine) && n <= 9 {
		text := string(bytes.ToLower(l.s.buffer[l.s.start+l.at : l.s.start+l.at+n]))
		switch {
		case l.words == 0:
			l.create = text == "create"
		case l.create && l.words <= 3 && (text == "function" || text == "procedure"):
			l.routine = true
		case l.routine && text == "begin", l.routine && text == "case" && l.depth > 0:
			l.depth++
		case l.routine && text == "end" && l.depth > 0:
			l.depth--
		}
	}
	l.words++
	l.at += n
}

// copiesRows reports whether a statement is followed by rows.
func copiesRows(text []byte) bool {
	if firstWord(text) != "copy" {
		return false
	}
	words := wordsOf(text, 400)
	for n, w := range words[:len(words)-1] {
		if w == "from" && words[n+1] == "stdin" {
			return true
		}
	}
	return false
}

// Rows returns the rows behind a COPY: up to a line with \. alone.
func (s *Scanner) Rows() io.Reader { return &rowReader{s: s} }

type rowReader struct {
	s    *Scanner
	left int  // what has been found to be rows
	open bool // a line is being read that is longer than what there is
}

// Read implements io.Reader.
func (r *rowReader) Read(p []byte) (int, error) {
	s := r.s
	for r.left == 0 {
		if !s.rows {
			return 0, io.EOF
		}
		rest := s.rest()
		// All whole lines that are there at once, up to the last one.
		if end := endOfRows(rest, r.open); end >= 0 {
			if end == 0 {
				s.takeLine()
				s.rows = false
				return 0, io.EOF
			}
			r.left, r.open = end, false
			break
		}
		if last := bytes.LastIndexByte(rest, '\n'); last >= 0 {
			r.left, r.open = last+1, false
			break
		}
		if len(rest) > 1<<20 {
			r.left, r.open = len(rest), true
			break
		}
		if !s.fill() {
			if s.failed != nil {
				return 0, s.failed
			}
			r.left = len(s.rest())
			if r.left == 0 || string(bytes.TrimRight(s.rest(), "\r")) == `\.` {
				s.take(r.left)
				r.left, s.rows = 0, false
				return 0, io.ErrUnexpectedEOF
			}
			break
		}
	}
	n := copy(p, s.rest()[:r.left])
	s.take(n)
	r.left -= n
	return n, nil
}

// endOfRows is where the line is that ends rows; -1 where there is none. Within says that the text
// begins within a line.
func endOfRows(text []byte, within bool) int {
	for from := 0; ; {
		at := bytes.Index(text[from:], []byte(`\.`))
		if at < 0 {
			return -1
		}
		at += from
		begins := at == 0 && !within || at > 0 && text[at-1] == '\n'
		rest := bytes.TrimPrefix(text[at+2:], []byte("\r"))
		if begins && len(rest) > 0 && rest[0] == '\n' {
			return at
		}
		from = at + 2
	}
}
