package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"log/slog"
	"math/big"
	"sync/atomic"
	"time"

	"victualler/internal/service"
)

// checkEvery is how often it is looked whether the console's site has another certificate.
const checkEvery = 10 * time.Second

// ownTLS serves with the certificate of one of the sites that are hosted here, which is ordered and
// renewed like all others; with a self-signed one until it is there.
func ownTLS(ctx context.Context, sv *service.Service, site string, log *slog.Logger) (*tls.Config, error) {
	made, err := selfSigned(site)
	if err != nil {
		return nil, err
	}
	var current atomic.Pointer[tls.Certificate]
	current.Store(made)
	look := func() {
		chain, key, err := sv.Certs.SiteKeyPair(ctx, site)
		if err != nil || chain == nil {
			if err != nil && ctx.Err() == nil {
				log.Warn("certificate of the console not looked at", "site", site, "reason", err)
			}
			return // what was there is better than nothing
		}
		pair, err := tls.X509KeyPair(chain, key)
		if err != nil {
			log.Warn("certificate of the console cannot be used", "site", site, "reason", err)
			return
		}
		current.Store(&pair)
	}
	look()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(checkEvery):
				look()
			}
		}
	}()
	return &tls.Config{MinVersion: tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			return current.Load(), nil
		}}, nil
}

// selfSigned makes a certificate that nobody trusts, so that the connection is not in clear.
func selfSigned(name string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	template := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: name},
		DNSNames: []string{name}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(10, 0, 0)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}
