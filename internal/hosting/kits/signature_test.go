package kits

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

// signed reads what minisign 0.11 and OpenSSH 9.2 have written: keys, and their signatures of
// testdata/signatures/archive.
func signed(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile("testdata/signatures/" + name)
	require.NoError(t, err)
	return string(text)
}

func TestVerify(t *testing.T) {
	var trusted []Key
	for _, name := range []string{"minisign.pub", "ed25519.pub", "rsa.pub"} {
		k, err := ParseKey(signed(t, name))
		require.NoError(t, err, name)
		again, err := ParseKey(k.Text)
		require.NoError(t, err)
		assert.Equal(t, k.ID, again.ID)
		trusted = append(trusted, k)
	}
	assert.Equal(t, "D8A3EBAA6B102936", trusted[0].ID, "as minisign writes it")
	archive := []byte(signed(t, "archive"))
	for name, key := range map[string]int{"prehashed.minisig": 0, "legacy.minisig": 0, "ed25519.sig": 1, "rsa.sig": 2} {
		t.Run(name, func(t *testing.T) {
			signature := signed(t, name)
			k, err := Verify(archive, signature, trusted)
			require.NoError(t, err)
			assert.Equal(t, trusted[key].ID, k.ID)
			_, err = Verify(append(archive[:len(archive):len(archive)], '!'), signature, trusted)
			assert.True(t, refusal.Is(err, refusal.NotAllowed), "%v", err)
			assert.ErrorContains(t, err, "not of this archive")
			others := append(append([]Key{}, trusted[:key]...), trusted[key+1:]...)
			_, err = Verify(archive, signature, others)
			assert.ErrorContains(t, err, trusted[key].ID+", which is none of those that are trusted")
			_, err = Verify(archive, signature[:len(signature)/2], trusted)
			assert.True(t, refusal.Is(err, refusal.InvalidInput), "%v", err)
		})
	}
	changed := strings.Replace(signed(t, "prehashed.minisig"), "of the test", "of nobody", 1)
	_, err := Verify(archive, changed, trusted)
	assert.ErrorContains(t, err, "not of this archive", "the trusted comment is signed, too")
	_, err = Verify(archive, signed(t, "other.sig"), trusted)
	assert.ErrorContains(t, err, `for "file"`)
	for _, odd := range []string{"", "x", "-----BEGIN SSH SIGNATURE-----\nU1NIU0lH\n-----END SSH SIGNATURE-----\n"} {
		_, err := Verify(archive, odd, trusted)
		assert.True(t, refusal.Is(err, refusal.InvalidInput), "%q: %v", odd, err)
	}
}

func TestParseKey(t *testing.T) {
	for _, odd := range []string{"", "RWQ2", "ssh-ed25519 AAAA", "ssh-dss AAAAB3NzaC1kc3MAAAAA",
		`command="x" ` + signed(t, "ed25519.pub"), signed(t, "ed25519.pub") + signed(t, "rsa.pub")} {
		_, err := ParseKey(odd)
		assert.Error(t, err, odd)
	}
}
