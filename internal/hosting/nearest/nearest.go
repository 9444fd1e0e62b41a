// Package nearest finds what somebody may have meant who mistyped a word.
package nearest

import "strings"

// Word is the one of some words that needs the fewest changes to be what was typed: one of them for
// every three letters at most, or only what is missing at its end. It is "" where none is near.
func Word(typed string, words []string) string {
	typed = strings.ToLower(typed)
	best, least := "", len(typed)/3+1
	for _, word := range words {
		if typed != "" && strings.HasPrefix(word, typed) {
			return word
		}
		if n := changes(typed, strings.ToLower(word)); n <= least && (best == "" || n < least) {
			best, least = word, n
		}
	}
	return best
}

// Hint is the end of a sentence that names the nearest of some words; it is "" where none is near.
func Hint(typed string, words []string) string {
	if near := Word(typed, words); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// changes is how many letters have to be put in, taken out, replaced or swapped with their
// neighbour to make b of a (optimal string alignment distance).
func changes(a, b string) int {
	x, y := []rune(a), []rune(b)
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(x); i++ {
		before, last, row = last, row, before
		row[0] = i
		for j := 1; j <= len(y); j++ {
			replaced := last[j-1]
			if x[i-1] != y[j-1] {
				replaced++
			}
			row[j] = min(last[j]+1, row[j-1]+1, replaced)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return row[len(y)]
}
