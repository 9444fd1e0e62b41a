package mail

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"regexp"
)

// SelectorForm is how selectors of keys look here.
var SelectorForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// ParseSigningKey reads a key that mail is signed with: RSA of 2048 bits or more, in PEM.
func ParseSigningKey(text string) (*rsa.PrivateKey, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("this is no key in PEM")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	key, is := parsed.(*rsa.PrivateKey)
	if !is || key.N.BitLen() < 2048 {
		return nil, errors.New("mail is signed with RSA keys of 2048 bits or more")
	}
	return key, nil
}

// SigningRecord is the text of the record that publishes the public half of a key (RFC 6376,
// section 3.6.1). It stands at SELECTOR._domainkey below the domain.
func SigningRecord(key *rsa.PublicKey) (string, error) {
	public, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return "", err
	}
	return "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(public), nil
}
