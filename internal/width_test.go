package internal

import (
	"bytes"
	"go/scanner"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Columns, in which a tab is 4.
const (
	widest        = 120
	widestComment = 100
)

// generated is code that no hand writes.
var generated = []string{"internal/store/db/", "console/src/api/schema.d.ts"}

// oneText is a line of the console that is a text and nothing else: a text is one string, as it is
// a key of catalogues.
var oneText = regexp.MustCompile("^\\s*(>?\\{\\{ )?(\\$?t\\()?['\"`].*['\"`][^'\"`]*$")

// TestWidth holds lines to 120 columns and Go's comments to 100. What is in a raw string, tags
// of fields among them, is as it has to be.
func TestWidth(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "--cached", "--others", "--exclude-standard",
		"*.go", "*.ts", "*.vue", "internal/store/queries/*.sql").Output()
	require.NoError(t, err)
	files := strings.Fields(string(out))
	require.Greater(t, len(files), 300)
	for _, file := range files {
		if strings.HasPrefix(file, generated[0]) || file == generated[1] {
			continue
		}
		text, err := os.ReadFile(filepath.Join("..", file))
		if os.IsNotExist(err) {
			continue // removed, and not committed yet
		}
		require.NoError(t, err)
		fixed := map[int]bool{}
		if strings.HasSuffix(file, ".go") {
			fixed = rawLines(text)
		}
		for n, line := range bytes.Split(text, []byte("\n")) {
			if strings.HasPrefix(file, "console/") && oneText.Match(line) {
				continue
			}
			limit := widest
			if strings.HasSuffix(file, ".go") && bytes.HasPrefix(bytes.TrimSpace(line), []byte("// ")) {
				limit = widestComment
				if !bytes.ContainsRune(bytes.TrimSpace(line)[3:], ' ') {
					continue // one long word, such as an address
				}
			}
			columns := len([]rune(string(line))) + 3*bytes.Count(line, []byte("\t"))
			if !fixed[n+1] && columns > limit {
				assert.Fail(t, "a line is too wide", "%s:%d has %d columns, %d at most", file, n+1, columns, limit)
			}
		}
	}
}

// rawLines are the lines that a raw string covers.
func rawLines(text []byte) map[int]bool {
	lines := map[int]bool{}
	files := token.NewFileSet()
	file := files.AddFile("", -1, len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	for {
		pos, tok, literal := s.Scan()
		if tok == token.EOF {
			return lines
		}
		if tok == token.STRING && literal[0] == '`' {
			for n := range strings.Count(literal, "\n") + 1 {
				lines[file.Line(pos)+n] = true
			}
		}
	}
}
