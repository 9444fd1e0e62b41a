package mail

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"strconv"
)

// LinkKey is the key by which other servers of the installation know the server of a number when it
// hands over what its sites send. It is made of the installation's own key, which no server has.
func LinkKey(installation []byte, server int64) ed25519.PrivateKey {
	made := hmac.New(sha256.New, installation)
	made.Write([]byte("server " + strconv.FormatInt(server, 10)))
	return ed25519.NewKeyFromSeed(made.Sum(nil))
}
