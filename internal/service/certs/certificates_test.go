package certs

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestStateMasks(t *testing.T) {
	of := map[int32]string{}
	for _, state := range []string{"self-signed", "ordered", "valid", "failing", "expired", "uploaded"} {
		list := stateMasks(state)
		assert.NotEmpty(t, list, state)
		for _, s := range list {
			assert.Empty(t, of[s], "%b is %s as well as %s", s, state, of[s])
			of[s] = state
		}
	}
	assert.Len(t, of, maskAll+1, "each comes to a state that can be asked for")
	assert.Nil(t, stateMasks(""), "no state is any")
	assert.Equal(t, "failing", certificateState(stateMask(true, false, true, true, false)),
		"what is in use is good, but the next one does not come")
	assert.Equal(t, "expired", certificateState(stateMask(true, false, true, true, true)))
	assert.Equal(t, "ordered", certificateState(stateMask(false, false, true, true, false)))
	assert.Equal(t, "uploaded", certificateState(stateMask(true, true, true, false, false)))
}
