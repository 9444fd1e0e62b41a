package agentlink

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"time"
)

// Authority is the installation's own small certification authority: its
// certificates are for the connections between service and agents, and nothing else.
type Authority struct {
	Certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// Lifetimes of certificates. Not-before lies a day back, for clocks apart.
const (
	authorityLife = 20 * 365 * 24 * time.Hour
	agentLife     = 2 * 365 * 24 * time.Hour
	serviceLife   = 7 * 24 * time.Hour
	clockSlack    = 24 * time.Hour
)

// serviceName is the name in the service's certificate; an agent obeys no other.
const serviceName = "service.victualler.internal"

// AgentName is the name in the certificate of the agent on the server with that number.
func AgentName(serverID int64) string { return fmt.Sprintf("server-%d.victualler.internal", serverID) }

// NewAuthority makes an authority for a new installation.
func NewAuthority(now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "Victualler installation authority"},
		NotBefore: now.Add(-clockSlack), NotAfter: now.Add(authorityLife),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	certificate, err := x509.ParseCertificate(der)
	return &Authority{certificate, key}, err
}

// OpenAuthority reads what [Authority.Seal] gave.
func OpenAuthority(certificate, key []byte) (*Authority, error) {
	c, err := x509.ParseCertificate(certificate)
	if err != nil {
		return nil, err
	}
	k, err := x509.ParseECPrivateKey(key)
	return &Authority{c, k}, err
}

// Bytes returns the certificate and the private key (DER). The key must be
// kept sealed.
func (a *Authority) Bytes() (certificate, key []byte, err error) {
	key, err = x509.MarshalECPrivateKey(a.key)
	return a.Certificate.Raw, key, err
}

func (a *Authority) sign(public any, name string, usage x509.ExtKeyUsage, life time.Duration, now time.Time) ([]byte,
	error) {
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: now.Add(-clockSlack), NotAfter: now.Add(life),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{usage},
	}
	return x509.CreateCertificate(rand.Reader, template, a.Certificate, public, a.key)
}

// SignAgent answers an agent's signing request. What the request says about
// names does not count.
func (a *Authority) SignAgent(request []byte, serverID int64, now time.Time) ([]byte, error) {
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return nil, err
	}
	if err := r.CheckSignature(); err != nil {
		return nil, err
	}
	return a.sign(r.PublicKey, AgentName(serverID), x509.ExtKeyUsageServerAuth, agentLife, now)
}

// serviceCertificate makes the certificate with which the service calls.
func (a *Authority) serviceCertificate(now time.Time) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := a.sign(key.Public(), serviceName, x509.ExtKeyUsageClientAuth, serviceLife, now)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der, a.Certificate.Raw}, PrivateKey: key, Leaf: leaf}, err
}

func (a *Authority) pool() *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AddCert(a.Certificate)
	return pool
}

// Identity is an enrolled agent's key and certificate.
type Identity struct {
	Certificate tls.Certificate
	Authority   *x509.Certificate
}

// ServerTLS is an enrolled agent's side of the connection: only the service of
// its own installation gets in. The certificate shown is the one that current
// returns, so that a renewal needs no new start.
func (i Identity) ServerTLS(current func() *tls.Certificate) *tls.Config {
	pool := x509.NewCertPool()
	pool.AddCert(i.Authority)
	return &tls.Config{
		MinVersion:     tls.VersionTLS13,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return current(), nil },
		ClientAuth:     tls.RequireAndVerifyClientCert, ClientCAs: pool,
		VerifyConnection: func(c tls.ConnectionState) error {
			return c.PeerCertificates[0].VerifyHostname(serviceName)
		},
	}
}

// Encode writes an identity as PEM: key, certificate, authority.
func (i Identity) Encode() ([]byte, error) {
	key, err := x509.MarshalPKCS8PrivateKey(i.Certificate.PrivateKey)
	if err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.Certificate.Certificate[0]})...)
	return append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.Authority.Raw})...), nil
}

// DecodeIdentity reads what [Identity.Encode] wrote.
func DecodeIdentity(text []byte) (Identity, error) {
	certificate, err := tls.X509KeyPair(text, text)
	if err != nil {
		return Identity{}, err
	}
	if len(certificate.Certificate) != 2 {
		return Identity{}, errors.New("an identity has two certificates: the agent's and the authority's")
	}
	authority, err := x509.ParseCertificate(certificate.Certificate[1])
	if err != nil {
		return Identity{}, err
	}
	certificate.Certificate = certificate.Certificate[:1]
	return Identity{certificate, authority}, nil
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // crypto/rand does not fail on Linux
	}
	return n
}
