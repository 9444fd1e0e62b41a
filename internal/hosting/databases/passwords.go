package databases

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1" //nolint:gosec // what MariaDB's programs speak
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
)

// scramRounds is how often PostgreSQL hashes a password; it is its own default.
const scramRounds = 4096

// Verifier is what an engine keeps to check a password with. MariaDB's is the one of
// mysql_native_password: SHA-1 of SHA-1, which is worth as much as the password to whoever has it;
// PostgreSQL's is that of SCRAM-SHA-256 (RFC 5802, RFC 7677) with the salt, which has 16 octets.
func Verifier(e Engine, password string, salt []byte) (string, error) {
	if e == MariaDB {
		once := sha1.Sum([]byte(password))
		twice := sha1.Sum(once[:])
		return "*" + strings.ToUpper(fmt.Sprintf("%x", twice)), nil
	}
	salted, err := pbkdf2.Key(sha256.New, password, salt, scramRounds, sha256.Size)
	if err != nil {
		return "", err
	}
	client, server := keyed(salted, "Client Key"), keyed(salted, "Server Key")
	stored := sha256.Sum256(client)
	encode := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", scramRounds, encode(salt), encode(stored[:]), encode(server)), nil
}

func keyed(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

var verifierForms = map[Engine]*regexp.Regexp{
	MariaDB: regexp.MustCompile(`^\*[0-9A-F]{40}$`),
	PostgreSQL: regexp.MustCompile(
		`^SCRAM-SHA-256\$[0-9]{1,7}:[A-Za-z0-9+/]{22,64}={0,2}\$[A-Za-z0-9+/]{43}=:[A-Za-z0-9+/]{43}=$`),
}

// IsVerifier reports whether a text is what an engine keeps to check a password with.
func IsVerifier(e Engine, text string) bool {
	form := verifierForms[e]
	return form != nil && form.MatchString(text)
}
