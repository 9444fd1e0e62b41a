// Package certificates decides about certificates: which keys are good, when one is renewed,
// whether an authority would issue one, and whether what somebody uploads fits. It asks nobody
// anything; who does hands over what was seen.
package certificates

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// KeyType is a kind of key, such as "ecdsa-p256".
type KeyType string

// The kinds of keys that are made. Any authority takes each of them.
const (
	ECDSA256 KeyType = "ecdsa-p256"
	ECDSA384 KeyType = "ecdsa-p384"
	RSA2048  KeyType = "rsa-2048"
	RSA3072  KeyType = "rsa-3072"
	RSA4096  KeyType = "rsa-4096"
)

// KeyTypes lists the kinds, the usual one first.
var KeyTypes = []KeyType{ECDSA256, ECDSA384, RSA2048, RSA3072, RSA4096}

// ParseKeyType reads a kind of key; empty is the usual one.
func ParseKeyType(typed string) (KeyType, error) {
	k := KeyType(strings.ToLower(strings.TrimSpace(typed)))
	if k == "" {
		return KeyTypes[0], nil
	}
	if !slices.Contains(KeyTypes, k) {
		return "", refusal.Input("key_type", "%q is no kind of key that is made here: say one of %s", typed, KeyTypes)
	}
	return k, nil
}

// New makes a key.
func (k KeyType) New() (crypto.Signer, error) {
	switch k {
	case ECDSA256:
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case ECDSA384:
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case RSA2048:
		return rsa.GenerateKey(rand.Reader, 2048)
	case RSA3072:
		return rsa.GenerateKey(rand.Reader, 3072)
	case RSA4096:
		return rsa.GenerateKey(rand.Reader, 4096)
	}
	return nil, fmt.Errorf("%q is no kind of key", k)
}

// DescribeKey names the kind of a public key, also of those that are not made here, and says what
// is weak about it; nothing for a good one.
func DescribeKey(key crypto.PublicKey) (kind string, weak language.Text) {
	switch key := key.(type) {
	case *ecdsa.PublicKey:
		bits := key.Curve.Params().BitSize
		if bits < 256 {
			weak = say("the curve has %d bits, and programs of visitors want 256 or more", bits)
		}
		return fmt.Sprintf("ecdsa-p%d", bits), weak
	case *rsa.PublicKey:
		bits := key.N.BitLen()
		if bits < 2048 {
			weak = say("the RSA key has %d bits, and programs of visitors want 2048 or more", bits)
		}
		return fmt.Sprintf("rsa-%d", bits), weak
	case ed25519.PublicKey:
		return "ed25519", say("many programs of visitors do not know Ed25519 in certificates")
	}
	return fmt.Sprintf("%T", key), say("the kind of key is not known here")
}

// EqualKeys reports whether two public keys are the same.
func EqualKeys(a, b crypto.PublicKey) bool {
	k, is := a.(interface{ Equal(crypto.PublicKey) bool })
	return is && k.Equal(b)
}
