// Package totp makes and checks time-based one-time passwords (RFC 6238) as
// authenticators know them: SHA-1, six digits, a new one every 30 seconds.
package totp

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// SecretSize is the number of bytes of a secret (RFC 4226, section 4, requirement 6).
const SecretSize = 20

// period is the time step X of RFC 6238, section 4.1.
const period = 30 * time.Second

// skew is how many steps a clock may be off, to either side (RFC 6238, section 6).
const skew = 1

// Step is the number of the time step at a moment.
func Step(at time.Time) int64 { return at.Unix() / int64(period/time.Second) }

// Code is the code of a time step.
func Code(secret []byte, step int64) string {
	mac := hmac.New(sha1.New, secret)
	var counter [8]byte
	binary.BigEndian.PutUint64(counter[:], uint64(step))
	mac.Write(counter[:])
	sum := mac.Sum(nil)
	at := sum[len(sum)-1] & 0xf
	return fmt.Sprintf("%06d", binary.BigEndian.Uint32(sum[at:])&0x7fffffff%1_000_000)
}

// Check returns the time step that a code is of, if it is of the present one or one beside it.
// Whoever takes the code must not take any code of that step or of an earlier one again.
func Check(secret []byte, code string, now time.Time) (step int64, fits bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	for s := Step(now) - skew; s <= Step(now)+skew; s++ {
		if subtle.ConstantTimeCompare([]byte(Code(secret, s)), []byte(code)) == 1 {
			step, fits = s, true
		}
	}
	return step, fits
}

// Text is a secret as people type it into an authenticator.
func Text(secret []byte) string {
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)
}

// URI is what a QR code holds for an authenticator: the secret, whose it is, and where.
func URI(issuer, name string, secret []byte) string {
	v := url.Values{"secret": {Text(secret)}, "issuer": {issuer}}
	u := url.URL{Scheme: "otpauth", Host: "totp", Path: "/" + issuer + ":" + name,
		RawQuery: strings.ReplaceAll(v.Encode(), "+", "%20")}
	return u.String()
}
