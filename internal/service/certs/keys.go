package certs

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"

	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/names"
	"victualler/internal/store"
)

const sealedCertificateKey = "key of a certificate"

// keyForOrder is the key that the next certificate of a site has,
// sealed: a new one, unless the one in use is kept.
func (s *Service) keyForOrder(site siteCertificate) ([]byte, error) {
	if site.config.PinKey && site.inUse != nil && site.inUse.KeyType == site.config.KeyType {
		return site.inUse.Key, nil
	}
	key, err := certificates.KeyType(site.config.KeyType).New()
	if err != nil {
		return nil, err
	}
	return s.sealCertificateKey(key)
}

func (s *Service) sealCertificateKey(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return s.Key.Seal(sealedCertificateKey, der), nil
}

func (s *Service) certificateKey(sealed []byte) (crypto.Signer, error) {
	der, err := s.Key.Open(sealedCertificateKey, sealed)
	if err != nil {
		return nil, err
	}
	return certificates.ParseKey(der)
}

// keyText opens the key of a certificate, and writes it as PEM.
func (s *Service) keyText(sealed []byte) ([]byte, error) {
	der, err := s.Key.Open(sealedCertificateKey, sealed)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// SiteKeyPair is the certificate in use of a site and its key, both PEM, for the service to show
// them itself; nothing where there is none.
//
// Refusals: InvalidInput.
func (s *Service) SiteKeyPair(ctx context.Context, name string) (chain, key []byte, err error) {
	d, _, err := names.ParseDomain(name)
	if err != nil {
		return nil, nil, err
	}
	row, err := s.Store.CertificateOfName(ctx, d.String())
	if store.None(err) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	key, err = s.keyText(row.Key)
	return []byte(row.Chain), key, err
}
