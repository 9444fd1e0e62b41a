package mail

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"strings"
	"time"

	"victualler/internal/hosting/names"
)

// Returns rewrites the senders of messages that are passed on. Who receives one asks whether our
// server may send for the sender's domain, which only its owner could allow (RFC 7208): so it is
// sent for the domain that passes it on, from an address that a failure comes back to, and from
// which the first sender can be read (the Sender Rewriting Scheme). The address has a checksum:
// nobody else can make one, so nobody can have us send mail to whom they like.
type Returns struct {
	// Key is secret, and the same on all servers of an installation.
	Key []byte
}

// How long what was passed on may take to come back. Servers try for five days.
const returnDays = 21

const (
	returnPrefix   = "SRS0"
	returnRelayed  = "SRS1" // what was rewritten elsewhere before; it goes back there
	dayModulus     = 1024   // two letters of base 32
	checksumLength = 8      // letters of base 32
)

var returnLetters = base32.StdEncoding.WithPadding(base32.NoPadding)

// Address is the sender's address for a message that a domain passes on. The empty sender, of
// messages that tell of failures, stays empty.
func (r Returns) Address(sender string, through names.Domain, now time.Time) string {
	at := strings.LastIndex(sender, "@")
	if at < 1 {
		return ""
	}
	local, host := sender[:at], sender[at+1:]
	parts := strings.SplitN(local, "=", 4)
	switch {
	case strings.EqualFold(parts[0], returnPrefix) && len(parts) == 4:
		rest := host + "==" + local[len(returnPrefix)+1:]
		local = returnRelayed + "=" + r.checksum(rest) + "=" + rest
	case strings.EqualFold(parts[0], returnRelayed) && len(parts) == 4:
		rest := parts[2] + "=" + parts[3]
		local = returnRelayed + "=" + r.checksum(rest) + "=" + rest
	default:
		rest := day(now) + "=" + host + "=" + local
		local = returnPrefix + "=" + r.checksum(rest) + "=" + rest
	}
	return local + "@" + through.String()
}

// IsReturn reports whether a local part has the form of an address made by [Returns.Address].
func IsReturn(local string) bool {
	prefix, _, has := strings.Cut(local, "=")
	return has && (strings.EqualFold(prefix, returnPrefix) || strings.EqualFold(prefix, returnRelayed))
}

// FirstSender is whoever has sent a message that was passed on, from the sender's address that it
// goes on with; empty where that is not one of [Returns.Address]. It may be forged: only
// [Returns.Sender] knows.
func FirstSender(address string) string {
	local, _, _ := strings.Cut(address, "@")
	if !IsReturn(local) {
		return ""
	}
	parts := strings.Split(local, "=")
	if len(parts) < 5 {
		return ""
	}
	// The last four are always those of SRS0, whatever was put before them.
	rest := parts[len(parts)-2:]
	if strings.EqualFold(parts[0], returnPrefix) {
		rest = strings.SplitN(local, "=", 5)[3:]
	}
	return rest[1] + "@" + rest[0]
}

// Errors of [Returns.Sender].
var (
	errNotReturn = errors.New("this is no address that a message was passed on from here with")
	errTooOld    = errors.New("the message was passed on too long ago")
)

// Sender reads the sender of a message that was passed on from the local part of the address that
// it came back to.
func (r Returns) Sender(local string, now time.Time) (string, error) {
	parts := strings.SplitN(local, "=", 3)
	if len(parts) != 3 || subtle.ConstantTimeCompare([]byte(strings.ToUpper(parts[1])),
		[]byte(r.checksum(parts[2]))) != 1 {
		return "", errNotReturn
	}
	rest := parts[2]
	if strings.EqualFold(parts[0], returnRelayed) {
		host, inner, has := strings.Cut(rest, "==")
		if !has || host == "" {
			return "", errNotReturn
		}
		return returnPrefix + "=" + inner + "@" + host, nil
	}
	if !strings.EqualFold(parts[0], returnPrefix) {
		return "", errNotReturn
	}
	stamp := strings.SplitN(rest, "=", 3)
	if len(stamp) != 3 || stamp[1] == "" || stamp[2] == "" {
		return "", errNotReturn
	}
	for back := range returnDays + 1 {
		if strings.EqualFold(stamp[0], day(now.AddDate(0, 0, -back))) {
			return stamp[2] + "@" + stamp[1], nil
		}
	}
	return "", errTooOld
}

// checksum is of a text whose letters may come back in another case.
func (r Returns) checksum(text string) string {
	mac := hmac.New(sha256.New, r.Key)
	mac.Write([]byte(strings.ToLower(text)))
	return returnLetters.EncodeToString(mac.Sum(nil))[:checksumLength]
}

// day is the number of a day, in two letters.
func day(t time.Time) string {
	n := uint16(t.Unix() / 86400 % dayModulus)
	const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567"
	return string([]byte{letters[n/32], letters[n%32]})
}
