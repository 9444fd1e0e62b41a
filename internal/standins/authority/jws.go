package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"slices"
	"strings"
)

// message is a request as clients sign it (RFC 8555, section 6.2): a
// flattened JSON Web Signature (RFC 7515, section 7.2.2).
type message struct {
	Protected string `json:"protected"`
	Payload   string `json:"payload"`
	Signature string `json:"signature"`
}

// header is the protected header of a message. Of key and account, exactly one is there.
type header struct {
	Algorithm string          `json:"alg"`
	Nonce     string          `json:"nonce"`
	URL       string          `json:"url"`
	Key       json.RawMessage `json:"jwk"`
	Account   string          `json:"kid"`
}

func (m message) header() (header, error) {
	var h header
	text, err := base64.RawURLEncoding.DecodeString(m.Protected)
	if err != nil {
		return h, fmt.Errorf("the protected header is not base64url: %w", err)
	}
	return h, json.Unmarshal(text, &h)
}

func (m message) payload() ([]byte, error) { return base64.RawURLEncoding.DecodeString(m.Payload) }

// errAlgorithm is for signatures of a kind that is not known here.
var errAlgorithm = errors.New("the algorithm is none of ES256, ES384 and RS256, or does not go with the key")

// verify checks the signature with a public key (RFC 7518, section 3).
func (m message) verify(algorithm string, key crypto.PublicKey) error {
	signature, err := base64.RawURLEncoding.DecodeString(m.Signature)
	if err != nil {
		return fmt.Errorf("the signature is not base64url: %w", err)
	}
	signed := []byte(m.Protected + "." + m.Payload)
	sum256 := sha256.Sum256(signed)
	switch key := key.(type) {
	case *ecdsa.PublicKey:
		digest := sum256[:]
		switch {
		case algorithm == "ES256" && key.Curve == elliptic.P256():
		case algorithm == "ES384" && key.Curve == elliptic.P384():
			sum384 := sha512.Sum384(signed)
			digest = sum384[:]
		default:
			return errAlgorithm
		}
		half := (key.Curve.Params().BitSize + 7) / 8
		if len(signature) != 2*half {
			return errors.New("the signature has the wrong length")
		}
		r, s := new(big.Int).SetBytes(signature[:half]), new(big.Int).SetBytes(signature[half:])
		if !ecdsa.Verify(key, digest, r, s) {
			return errors.New("the signature does not fit")
		}
		return nil
	case *rsa.PublicKey:
		if algorithm != "RS256" {
			return errAlgorithm
		}
		return rsa.VerifyPKCS1v15(key, crypto.SHA256, sum256[:], signature)
	}
	return errAlgorithm
}

// verifyMAC checks a signature with a common key, as external account
// binding has it (RFC 8555, section 7.3.4).
func (m message) verifyMAC(key []byte) error {
	signature, err := base64.RawURLEncoding.DecodeString(m.Signature)
	if err != nil {
		return err
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(m.Protected + "." + m.Payload))
	if !hmac.Equal(mac.Sum(nil), signature) {
		return errors.New("the external account binding is not signed with the key of that number")
	}
	return nil
}

// publicKey reads a JSON Web Key (RFC 7517) and returns its thumbprint (RFC 7638) with it.
func publicKey(text json.RawMessage) (crypto.PublicKey, string, error) {
	var k struct{ Kty, Crv, X, Y, N, E string }
	if err := json.Unmarshal(text, &k); err != nil {
		return nil, "", err
	}
	number := func(s string) *big.Int {
		b, err := base64.RawURLEncoding.DecodeString(s)
		if err != nil {
			return new(big.Int)
		}
		return new(big.Int).SetBytes(b)
	}
	print := func(canonical string) string {
		sum := sha256.Sum256([]byte(canonical))
		return base64.RawURLEncoding.EncodeToString(sum[:])
	}
	switch k.Kty {
	case "EC":
		curve := map[string]elliptic.Curve{"P-256": elliptic.P256(), "P-384": elliptic.P384()}[k.Crv]
		if curve == nil {
			return nil, "", fmt.Errorf("the curve %q is not known here", k.Crv)
		}
		x, errX := base64.RawURLEncoding.DecodeString(k.X)
		y, errY := base64.RawURLEncoding.DecodeString(k.Y)
		key, err := ecdsa.ParseUncompressedPublicKey(curve, slices.Concat([]byte{4}, x, y))
		if err := errors.Join(errX, errY, err); err != nil {
			return nil, "", err
		}
		return key, print(fmt.Sprintf(`{"crv":%q,"kty":"EC","x":%q,"y":%q}`, k.Crv, k.X, k.Y)), nil
	case "RSA":
		key := &rsa.PublicKey{N: number(k.N), E: int(number(k.E).Int64())}
		if key.N.BitLen() < 2048 || key.N.BitLen() > 4096 {
			return nil, "", fmt.Errorf("an RSA key of %d bits: it needs 2048 to 4096", key.N.BitLen())
		}
		return key, print(fmt.Sprintf(`{"e":%q,"kty":"RSA","n":%q}`, k.E, k.N)), nil
	}
	return nil, "", fmt.Errorf("keys of the kind %q are not known here", k.Kty)
}

// bind checks an external account binding: made by whoever has the key,
// of this account's key, for this address.
func (a *Authority) bind(binding json.RawMessage, own json.RawMessage, url string) (kid string, wrong *problem) {
	var m message
	if err := json.Unmarshal(binding, &m); err != nil {
		return "", malformed("external account binding: %v", err)
	}
	h, err := m.header()
	if err != nil || h.Algorithm != "HS256" || h.URL != url || h.Nonce != "" {
		return "", malformed("the external account binding needs alg HS256, the URL of newAccount and no nonce")
	}
	key, known := a.settings.ExternalKeys[h.Account]
	secret, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(key, "="))
	if !known || err != nil {
		return "", denied("there is no external account %q", h.Account)
	}
	if err := m.verifyMAC(secret); err != nil {
		return "", denied("%v", err)
	}
	payload, _ := m.payload()
	_, bound, err := publicKey(payload)
	_, thumbprint, _ := publicKey(own)
	if err != nil || bound != thumbprint {
		return "", malformed("the external account binding is of another key")
	}
	return h.Account, nil
}

// problem is what a refusal says (RFC 8555, section 6.7; RFC 9457).
type problem struct {
	Type   string `json:"type"`
	Detail string `json:"detail"`
	Status int    `json:"status"`
	// Subproblems are of single names.
	Subproblems []subproblem `json:"subproblems,omitempty"`

	retryAfter string
}

type subproblem struct {
	Type       string     `json:"type"`
	Detail     string     `json:"detail"`
	Identifier identifier `json:"identifier"`
}

const errorType = "urn:ietf:params:acme:error:"

func wrong(kind string, status int, format string, args ...any) *problem {
	return &problem{Type: errorType + kind, Detail: fmt.Sprintf(format, args...), Status: status}
}

func malformed(format string, args ...any) *problem {
	return wrong("malformed", http.StatusBadRequest, format, args...)
}

func denied(format string, args ...any) *problem {
	return wrong("unauthorized", http.StatusForbidden, format, args...)
}
