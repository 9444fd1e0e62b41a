package passwords

import (
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHash(t *testing.T) {
	hash := Hash("correct horse")
	assert.True(t, strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$"), hash)
	assert.NotEqual(t, hash, Hash("correct horse"), "salted")
	assert.True(t, Matches(hash, "correct horse"))
	assert.False(t, Matches(hash, "correct horse "))
	assert.False(t, Matches(Nobody, ""))
	for _, broken := range []string{"", "x", "$argon2id$", "$argon2i$v=19$m=1,t=1,p=1$AA$AA",
		"$argon2id$v=18$m=8,t=1,p=1$AAAA$AAAA", "$argon2id$v=19$m=8,t=1,p=1$?$AAAA"} {
		assert.False(t, Matches(broken, ""), broken)
	}
	// Written by another implementation of RFC 9106 with other costs.
	assert.True(t,
		Matches("$argon2id$v=19$m=64,t=1,p=1$c29tZXNhbHQ$"+
			encoding.EncodeToString(derive("pw", []byte("somesalt"), 1, 64, 1, 16)), "pw"))
}

func TestHashesAtOnce(t *testing.T) {
	hash := Hash("x")
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() { assert.True(t, Matches(hash, "x")) })
	}
	group.Wait()
}

func TestGenerate(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		p := Generate(16)
		assert.Len(t, p, 16)
		assert.Empty(t, strings.Trim(p, Small+Large+Digits))
		assert.False(t, seen[p])
		seen[p] = true
	}
	assert.Len(t, Generate(3), 12, "never too short")
}

func TestGenerateOfHasEachSet(t *testing.T) {
	for range 200 {
		p := GenerateOf(4, Small, Large, Digits, Signs)
		assert.Len(t, p, 4)
		for _, set := range []string{Small, Large, Digits, Signs} {
			assert.True(t, strings.ContainsAny(p, set), p)
		}
	}
}
