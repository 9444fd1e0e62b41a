package agentlink

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"time"
)

// RenewBefore is how long before its end an agent's certificate is renewed: a
// third of its life.
const RenewBefore = agentLife / 3

// Renewal is the agent's side of a renewal: a new key and a signing request,
// answered by the certificate. It goes over the connection that the old certificate secures.
type Renewal struct {
	key     *ecdsa.PrivateKey
	Request []byte
}

// SigningRequest and SignedCertificate are the two messages (DER).
type (
	SigningRequest struct {
		Request []byte `json:"request"`
	}
	SignedCertificate struct {
		Certificate []byte `json:"certificate"`
	}
)

// NewRenewal makes a key and its signing request.
func NewRenewal() (*Renewal, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	return &Renewal{key, request}, err
}

// Finish returns the new identity, if the certificate is for the new key, of
// the same authority, and for the same name as the old one.
func (r *Renewal) Finish(old Identity, certificate []byte) (Identity, error) {
	leaf, err := x509.ParseCertificate(certificate)
	if err != nil {
		return Identity{}, err
	}
	if err := leaf.CheckSignatureFrom(old.Authority); err != nil {
		return Identity{}, err
	}
	if !r.key.PublicKey.Equal(leaf.PublicKey) {
		return Identity{}, errors.New("the certificate is for another key")
	}
	if leaf.Subject.CommonName != old.Certificate.Leaf.Subject.CommonName {
		return Identity{}, errors.New("the certificate is for another server")
	}
	return Identity{tls.Certificate{Certificate: [][]byte{certificate}, PrivateKey: r.key, Leaf: leaf}, old.Authority},
		nil
}

// Renew is the service's side: it signs a new certificate for an agent.
func (c *Client) Renew(ctx context.Context, a *Authority, serverID int64, now time.Time) error {
	var request SigningRequest
	if err := c.call(ctx, "/v1/renewal/request", nil, &request); err != nil {
		return err
	}
	certificate, err := a.SignAgent(request.Request, serverID, now)
	if err != nil {
		return err
	}
	if err := c.call(ctx, "/v1/renewal", SignedCertificate{certificate}, &struct{}{}); err != nil {
		return err
	}
	c.http.CloseIdleConnections() // the next call meets the new certificate
	return nil
}
