package main

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/plans"
)

func ptr[T any](v T) *T { return &v }

// sample is a table with cells of all kinds.
func sample() *grid {
	return &grid{columns: []heading{{title: "DOMAIN"}, {title: "SIGN-IN NAME", minor: 1}, {title: "DISK"},
		{title: "OF", minor: 2}, {title: "OPENED", minor: 3}, {title: "REASON"}},
		rows: [][]any{
			{"møwe-café.example", "mowe", byteCount(500 << 20), amount{ptr(int64(1 << 30)), plans.Bytes},
				time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC), "the lamp archive is kept here until next summer"},
			{"a-rather-long-domain-name.example", "arather", nil, amount{nil, plans.Bytes},
				time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC), ""},
		}}
}

func written(g *grid, columns int, wide bool) (lines, left []string) {
	var out bytes.Buffer
	left = g.write(&out, columns, wide)
	return strings.Split(strings.TrimRight(out.String(), "\n"), "\n"), left
}

func TestTables(t *testing.T) {
	t.Setenv("TZ", "UTC")
	t.Run("minor columns give way, and the last one is wrapped", func(t *testing.T) {
		lines, left := written(sample(), 80, false)
		assert.Equal(t, []string{
			"DOMAIN                             DISK  REASON",
			"møwe-café.example                  500M  the lamp archive is kept here until",
			"                                         next summer",
			"a-rather-long-domain-name.example     -"}, lines)
		assert.Equal(t, []string{"SIGN-IN NAME", "OF", "OPENED"}, left)
	})
	t.Run("as much as fits is shown", func(t *testing.T) {
		lines, left := written(sample(), 125, false)
		assert.Equal(t, "DOMAIN                             SIGN-IN NAME  DISK         OF  REASON", lines[0])
		assert.Equal(t, []string{"OPENED"}, left)
		_, left = written(sample(), 200, false)
		assert.Empty(t, left)
	})
	t.Run("nothing is cut however narrow it is", func(t *testing.T) {
		lines, left := written(sample(), 30, false)
		assert.Equal(t, []string{"SIGN-IN NAME", "OF", "OPENED"}, left)
		text := strings.Join(lines, "\n")
		assert.Contains(t, text, "a-rather-long-domain-name.example")
		for _, word := range strings.Fields("the lamp archive is kept here until next summer") {
			assert.Contains(t, text, word)
		}
		assert.NotContains(t, text, "…")
	})
	t.Run("wide leaves all as it is", func(t *testing.T) {
		lines, left := written(sample(), 30, true)
		assert.Empty(t, left)
		assert.Len(t, lines, 3)
	})
	t.Run("without a terminal, there are tabs and nothing else", func(t *testing.T) {
		lines, _ := written(sample(), 0, false)
		assert.Equal(t, "a-rather-long-domain-name.example\tarather\t-\tunlimited\t2026-11-02 12:00:00\t", lines[2])
	})
	t.Run("characters that take two columns are counted as two, marks as none", func(t *testing.T) {
		g := rows("A|B", []any{"港", "x"}, []any{"e\u0301", "y"}, []any{"abc", "z"})
		lines, _ := written(g, 80, false)
		assert.Equal(t, []string{"A    B", "港   x", "e\u0301    y", "abc  z"}, lines)
	})
	t.Run("programs get raw figures", func(t *testing.T) {
		var out bytes.Buffer
		require.NoError(t, sample().writeCSV(&out))
		assert.Equal(t, "domain,sign_in_name,disk,of,opened,reason\n"+
			"møwe-café.example,mowe,524288000,1073741824,2026-11-01T12:00:00Z,the lamp archive is kept here until "+
			"next summer\n"+
			"a-rather-long-domain-name.example,arather,,,2026-11-02T12:00:00Z,\n", out.String())
	})
}

func TestColumnsAreChosenAndSorted(t *testing.T) {
	g := sample()
	require.NoError(t, g.pick([]string{"disk", "sign-in-name"}))
	lines, _ := written(g, 80, false)
	assert.Equal(t, []string{"DISK  SIGN-IN NAME", "500M  mowe", "   -  arather"}, lines)
	_, err := sample().column("columns", "dsik")
	assert.EqualError(t, err,
		`--columns: there is no column "dsik"; there are domain, sign_in_name, disk, of, opened, `+
			`reason; did you mean disk?`)
	for keys, want := range map[string][]int{"disk": {1, 0}, "-disk": {0, 1}, "of": {0, 1}, "-opened": {1, 0},
		"domain": {1, 0}} {
		order, err := sample().sortBy([]string{keys})
		require.NoError(t, err)
		assert.Equal(t, want, order, keys)
	}
	_, err = sample().sortBy([]string{"colour"})
	assert.ErrorContains(t, err, `--sort: there is no column "colour"`)
}

// What customers have written is shown, and a terminal does not obey it.
func TestVisible(t *testing.T) {
	for text, want := range map[string]string{"Møwe-Café\n\tline": "Møwe-Café\n\tline",
		"\x1b]0;title\x07\x1b[2J": `\u001b]0;title\u0007\u001b[2J`, "a\u009b31m": `a\u009b31m`,
		"exe\u202ecod": `exe\u202ecod`, "a\rb": `a\u000db`} {
		assert.Equal(t, want, visible(text))
		assert.Equal(t, want, forPeople(text))
		assert.Equal(t, want, forPeople([]string{text}))
	}
}
