// Package selfsigned makes certificates that a server signs itself, for as long as no authority has
// issued one.
package selfsigned

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"time"
)

// Make returns a certificate for names, and its key, both in PEM. It is valid from an hour ago.
func Make(names []string, now time.Time, lasting time.Duration) (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, nil, err
	}
	// A common name has at most 64 characters (RFC 5280, appendix A.1);
	// nobody reads it, the names count.
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "self-signed"},
		DNSNames: names, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(lasting),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true}
	signed, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	// In the form of RFC 5915: OpenSSL reads it a little faster than PKCS 8, and reads that of a
	// site that is hardly visited at each handshake.
	secret, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}),
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}), nil
}
