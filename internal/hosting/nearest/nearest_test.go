package nearest

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWord(t *testing.T) {
	verbs := []string{"open", "list", "show", "suspend"}
	for typed, want := range map[string]string{"opne": "open", "sus": "suspend", "lst": "list", "fly": "", "": "",
		"shwo": "show", "OPEN": "open", "harbor": ""} {
		assert.Equal(t, want, Word(typed, verbs), typed)
	}
	assert.Equal(t, "; did you mean open?", Hint("opne", verbs))
	assert.Empty(t, Hint("fly", verbs))
}

func TestChanges(t *testing.T) {
	for pair, want := range map[[2]string]int{{"opne", "open"}: 1, {"kitten", "sitting"}: 3, {"", "abc"}: 3,
		{"møwe", "mowe"}: 1, {"same", "same"}: 0} {
		assert.Equal(t, want, changes(pair[0], pair[1]), "%v", pair)
	}
}
