package service

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"victualler/internal/hosting/certificates"
)

func TestPKCS12(t *testing.T) {
	key, err := certificates.ECDSA256.New()
	require.NoError(t, err)
	now := time.Now()
	template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "tern.example"}, DNSNames: []string{"tern.example"}, NotBefore: now, NotAfter: now.Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	for name, encoder := range map[string]*pkcs12.Encoder{"modern": pkcs12.Modern, "of old": pkcs12.LegacyDES} {
		text, err := encoder.Encode(key, leaf, nil, "tide")
		require.NoError(t, err, name)
		assert.True(t, certificates.IsPKCS12(text), name)
		b, err := readPKCS12(text, "tide")
		require.NoError(t, err, name)
		assert.True(t, certificates.EqualKeys(b.Key.Public(), leaf.PublicKey), name)
		assert.Len(t, b.Certificates, 1, name)
		_, err = readPKCS12(text, "")
		assert.ErrorContains(t, err, "give its password", name)
		_, err = readPKCS12(text, "ebb")
		assert.ErrorContains(t, err, "does not open", name)
		_, err = readPKCS12(text[:len(text)-9], "tide")
		assert.Error(t, err, "cut off")
	}
}
