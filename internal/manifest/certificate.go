package manifest

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
)

// Certificate is one with its key.
type Certificate struct {
	// Chain is the site's certificate and those above it, as PEM.
	Chain string `json:"chain"`
	// Key is the private key, as PEM.
	Key Secret `json:"key"`
}

// Check refuses what a web server would not load.
func (c Certificate) Check() error {
	_, err := tls.X509KeyPair([]byte(c.Chain), []byte(c.Key))
	return err
}

// Names are those that the certificate is for.
func (c Certificate) Names() ([]string, error) {
	pair, err := tls.X509KeyPair([]byte(c.Chain), []byte(c.Key))
	if err != nil {
		return nil, err
	}
	return pair.Leaf.DNSNames, nil
}

// Digest names the certificate among others of the same site.
func (c Certificate) Digest() string {
	sum := sha256.Sum256([]byte(c.Chain))
	return hex.EncodeToString(sum[:6])
}

// Secret is text that no log and no message shows.
type Secret string

// String implements fmt.Stringer.
func (Secret) String() string { return "[secret]" }

// GoString implements fmt.GoStringer.
func (Secret) GoString() string { return "[secret]" }

// Format implements fmt.Formatter: no verb shows it.
func (Secret) Format(f fmt.State, _ rune) { fmt.Fprint(f, "[secret]") }
