package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

func TestAgentAddress(t *testing.T) {
	for typed, want := range map[string]string{"10.0.0.1": "10.0.0.1:7677", "skua.example": "skua.example:7677",
		"10.0.0.1:9": "10.0.0.1:9", "[2001:db8::1]:9": "[2001:db8::1]:9",
		"2001:db8::1": "[2001:db8::1]:7677"} {
		got, err := agentAddress(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, want, got)
	}
	for _, typed := range []string{":9", "skua:0", "skua:99999", "skua:http"} {
		_, err := agentAddress(typed)
		assert.True(t, refusal.Is(err, refusal.InvalidInput), typed)
	}
}
