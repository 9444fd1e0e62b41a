package usecase

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRequestDigest(t *testing.T) {
	a := RequestDigest("POST", "/x", []byte("body"))
	assert.Equal(t, a, RequestDigest("POST", "/x", []byte("body")))
	for _, other := range [][]byte{RequestDigest("PUT", "/x", []byte("body")),
		RequestDigest("POST", "/y", []byte("body")), RequestDigest("POST", "/x", []byte("body "))} {
		assert.NotEqual(t, a, other)
	}
}
