package internal_test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/actions"
)

// recorded is a use case's word for what it does: of an event, of an operation, or of both.
var recorded = regexp.MustCompile(`"((?:account|authority|brand|certificate|customer|domain|exception|folder|` +
	`handover|login|name_servers|person|plan|record|reseller|server|session|template|token|zone)\.[a-z_]+)"`)

// Everything that is recorded has a title for people.
func TestActionsHaveTitles(t *testing.T) {
	found := map[string]bool{}
	require.NoError(t, filepath.WalkDir("service", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		// A zone that is only an example in a check.
		text = bytes.ReplaceAll(text, []byte(`"zone.example"`), nil)
		for _, m := range recorded.FindAllStringSubmatch(string(text), -1) {
			found[m[1]] = true
		}
		return err
	}))
	assert.Greater(t, len(found), 60)
	for code := range found {
		assert.True(t, actions.Known(code), "%s needs a title in hosting/actions", code)
	}
}
