// Package passwords hashes people's passwords with argon2id (RFC 9106) and makes
// new ones.
package passwords

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Cost of a hash: 19 MiB, two passes. At most [slots] are computed at the
// same time, which bounds the memory that sign-ins can take.
const (
	memory  = 19 * 1024
	passes  = 2
	lanes   = 1
	keySize = 32
)

var slots = make(chan struct{}, 2)

var encoding = base64.RawStdEncoding

// Hash returns a hash in the PHC string format.
func Hash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes,
		encoding.EncodeToString(salt), encoding.EncodeToString(derive(password, salt, passes, memory, lanes, keySize)))
}

func derive(password string, salt []byte, t, m uint32, p uint8, size uint32) []byte {
	slots <- struct{}{}
	defer func() { <-slots }()
	return argon2.IDKey([]byte(password), salt, t, m, p, size)
}

// Nobody is a hash that no password fits; checking it takes as long as any other.
var Nobody = Hash(rand.Text())

// Matches reports whether the password fits the hash.
func Matches(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var version int
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[2], "v=%d", &version); err != nil || version != argon2.Version {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := encoding.DecodeString(parts[4])
	want, err2 := encoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(derive(password, salt, t, m, p, uint32(len(want))), want) == 1
}
