package httpapi

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

// The description in docs/ is the one that the handlers give; make generate writes it.
func TestDescriptionIsCurrent(t *testing.T) {
	want, err := New(Options{}).OpenAPI()
	require.NoError(t, err)
	have, err := os.ReadFile("../../docs/openapi.json")
	require.NoError(t, err)
	assert.True(t, string(want)+"\n" == string(have),
		"docs/openapi.json is not what the handlers give; run make generate")
}

// Every kind of refusal has its status and title.
func TestEveryKindIsListed(t *testing.T) {
	for _, kind := range refusal.Kinds {
		assert.NotEqual(t, string(kind), infoOf(kind).title, kind)
	}
}
