// Package seal keeps secrets in the database unreadable to whoever has only the
// database: they are encrypted with a key that lies in a file beside the service.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Key seals and opens.
type Key struct{ aead cipher.AEAD }

const keySize = 32

// LoadKey reads the key file; where there is none it makes one, readable to its owner only. Without
// this file the secrets in the database are lost: back it up apart from the database.
func LoadKey(path string) (*Key, error) {
	secret, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		secret = make([]byte, keySize)
		rand.Read(secret)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, err
		}
		_, err = f.Write(secret)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	if len(secret) != keySize {
		return nil, fmt.Errorf("%s: a sealing key has %d bytes, this file %d", path, keySize, len(secret))
	}
	block, err := aes.NewCipher(secret)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return &Key{aead}, err
}

// Seal encrypts. What names the place where the result is kept, so that sealed
// values cannot be exchanged for each other.
func (k *Key) Seal(what string, secret []byte) []byte {
	return k.aead.Seal(nil, nil, secret, []byte(what))
}

// Open decrypts what [Key.Seal] gave for the same place.
func (k *Key) Open(what string, sealed []byte) ([]byte, error) {
	secret, err := k.aead.Open(nil, nil, sealed, []byte(what))
	if err != nil {
		return nil, fmt.Errorf("the sealed %s cannot be opened: the sealing key is not the one it was sealed with",
			what)
	}
	return secret, nil
}
