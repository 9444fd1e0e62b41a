package agentlink

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base32"
	"errors"
	"strings"
)

// JoinSecret lets one agent join once. Its first half is known to the service
// and the agent only; its second is the digest of the installation's
// certification key, so that the agent lets nobody else enrol it.
type JoinSecret struct {
	Key [20]byte
	Pin [20]byte
}

const secretPrefix = "join"

var secretCoding = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// NewJoinSecret makes a secret for the installation with that certification authority.
func NewJoinSecret(authority *x509.Certificate) JoinSecret {
	s := JoinSecret{Pin: pinOf(authority)}
	rand.Read(s.Key[:])
	return s
}

// String is the form that people copy: three parts with hyphens.
func (s JoinSecret) String() string {
	return strings.Join([]string{secretPrefix, secretCoding.EncodeToString(s.Key[:]),
		secretCoding.EncodeToString(s.Pin[:])}, "-")
}

// ParseJoinSecret reads the copied form.
func ParseJoinSecret(text string) (JoinSecret, error) {
	wrong := errors.New("that is not a join secret; copy it whole, from “join-” to the end, as it was shown when the " +
		"server was added")
	parts := strings.Split(strings.TrimSpace(text), "-")
	if len(parts) != 3 || parts[0] != secretPrefix {
		return JoinSecret{}, wrong
	}
	key, err1 := secretCoding.DecodeString(parts[1])
	pin, err2 := secretCoding.DecodeString(parts[2])
	var s JoinSecret
	if err1 != nil || err2 != nil || len(key) != len(s.Key) || len(pin) != len(s.Pin) {
		return JoinSecret{}, wrong
	}
	copy(s.Key[:], key)
	copy(s.Pin[:], pin)
	if s.String() != strings.TrimSpace(text) { // bits left over
		return JoinSecret{}, wrong
	}
	return s, nil
}

// pinOf is the first 160 bits of the SHA-256 digest of the key (RFC 7469, section 2.4, shortened).
func pinOf(c *x509.Certificate) [20]byte {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return [20]byte(sum[:20])
}

// proof shows knowledge of the secret on one TLS connection and no other:
// binding is keying material exported from the connection (RFC 8446, section 7.5).
func (s JoinSecret) proof(binding, message []byte) []byte {
	mac := hmac.New(sha256.New, s.Key[:])
	mac.Write(binding)
	mac.Write(message)
	return mac.Sum(nil)
}
