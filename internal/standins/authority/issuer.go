package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"time"
)

// issuer holds the authority's own keys: a root, which is trusted, and
// what it has signed, which signs the rest.
type issuer struct {
	rootKey, key       *ecdsa.PrivateKey
	root, intermediate *x509.Certificate
}

// certificate is one that was issued.
type certificate struct {
	leaf    *x509.Certificate
	account *account
	revoked time.Time
	reason  int
}

func (c *certificate) number() string { return c.leaf.SerialNumber.Text(16) }

const issuerLife = 10 * 365 * 24 * time.Hour

// loadIssuer reads the authority's keys from a file, or makes them and keeps them there.
func loadIssuer(path string, now time.Time) (*issuer, error) {
	if path != "" {
		text, err := os.ReadFile(path)
		if err == nil {
			return readIssuer(text)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	i, err := newIssuer(now)
	if err != nil || path == "" {
		return i, err
	}
	var text []byte
	for _, key := range []*ecdsa.PrivateKey{i.rootKey, i.key} {
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})...)
	}
	for _, c := range []*x509.Certificate{i.root, i.intermediate} {
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return i, os.WriteFile(path, text, 0o600)
}

func readIssuer(text []byte) (*issuer, error) {
	var keys []*ecdsa.PrivateKey
	var certificates []*x509.Certificate
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if block.Type == "CERTIFICATE" {
			c, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				return nil, err
			}
			certificates = append(certificates, c)
			continue
		}
		key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if err != nil {
			return nil, err
		}
		own, is := key.(*ecdsa.PrivateKey)
		if !is {
			return nil, fmt.Errorf("a key of the authority is a %T", key)
		}
		keys = append(keys, own)
	}
	if len(keys) != 2 || len(certificates) != 2 {
		return nil, errors.New("the file of the authority's keys is not whole")
	}
	return &issuer{rootKey: keys[0], key: keys[1], root: certificates[0], intermediate: certificates[1]}, nil
}

func newIssuer(now time.Time) (*issuer, error) {
	i := &issuer{}
	var err error
	if i.rootKey, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	if i.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	above := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Stand-in root",
		Organization: []string{"Tern Island trial authority"}}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(issuerLife),
		IsCA:     true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	if i.root, err = sign(above, above, &i.rootKey.PublicKey, i.rootKey); err != nil {
		return nil, err
	}
	below := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Stand-in intermediate 1",
		Organization: []string{"Tern Island trial authority"}}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(issuerLife),
		IsCA:     true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage:    x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	i.intermediate, err = sign(below, i.root, &i.key.PublicKey, i.rootKey)
	return i, err
}

func sign(template, parent *x509.Certificate, key crypto.PublicKey, by crypto.Signer) (*x509.Certificate, error) {
	der, err := x509.CreateCertificate(rand.Reader, template, parent, key, by)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		panic(err) // crypto/rand does not fail on Linux
	}
	return n
}

func (i *issuer) rootPEM() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.root.Raw}))
}

// ownCertificate is the one with which the authority itself speaks TLS.
func (i *issuer) ownCertificate(host string, now time.Time) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	template := &x509.Certificate{SerialNumber: serial(), DNSNames: []string{Identity, "localhost"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(issuerLife), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if address := net.ParseIP(host); address != nil {
		template.IPAddresses = []net.IP{address}
	}
	leaf, err := sign(template, i.intermediate, &key.PublicKey, i.key)
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.Certificate{Certificate: [][]byte{leaf.Raw, i.intermediate.Raw}, PrivateKey: key, Leaf: leaf}, nil
}

// issue makes a certificate for the names of an order and the key of a signing request. Nothing
// else of the request counts.
func (i *issuer) issue(request *x509.CertificateRequest, names []identifier, now time.Time,
	life time.Duration) (*x509.Certificate, error) {
	point, err := x509.MarshalPKIXPublicKey(request.PublicKey)
	if err != nil {
		return nil, err
	}
	print := sha1.Sum(point)
	template := &x509.Certificate{SerialNumber: serial(), NotBefore: now.Add(-min(time.Hour, life/10)),
		NotAfter: now.Add(life), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
		SubjectKeyId: print[:]}
	for _, name := range names {
		template.DNSNames = append(template.DNSNames, name.Value)
	}
	return sign(template, i.intermediate, request.PublicKey, i.key)
}
