package main

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shown is a line of the client in a document: indented, or in a fenced block.
var shown = regexp.MustCompile(`(?m)^\s*(?:demo/)?victualler ((?:[a-z]+ ).*)$`)

// spoken is a command within a sentence.
var spoken = regexp.MustCompile("`(?:victualler )?((?:[a-z]+) (?:[a-z-]+)(?: [^`]*)?)`")

// Every line of the client that documents show is one that it takes.
func TestLinesOfDocuments(t *testing.T) {
	lines := 0
	for _, file := range []string{"README.md", "docs/tour.md", "docs/running.md", "docs/api.md"} {
		text, err := os.ReadFile("../../" + file)
		require.NoError(t, err)
		var found []string
		for _, m := range shown.FindAllStringSubmatch(string(text), -1) {
			found = append(found, m[1])
		}
		for _, m := range spoken.FindAllStringSubmatch(string(text), -1) {
			noun, verb, _ := strings.Cut(m[1], " ")
			verb, _, _ = strings.Cut(verb, " ")
			// Another program's, a field's, or a word that stands alone.
			if verbs := verbsOf(noun); len(verbs) > 0 && verb != "" && strings.Contains(m[1], "--") {
				found = append(found, m[1])
			}
		}
		for _, line := range found {
			line, _, _ = strings.Cut(line, " #")
			for _, cut := range []string{" < ", " > ", " | ", " && ", " \\"} {
				line, _, _ = strings.Cut(line, cut)
			}
			line = strings.NewReplacer("[", "", "]", "", `"`, "'").Replace(line)
			if strings.ContainsAny(line, "…") {
				continue
			}
			lines++
			_, err := parse(inWords(line))
			assert.NoError(t, err, "%s: victualler %s", file, line)
		}
	}
	assert.Greater(t, lines, 60)
}
