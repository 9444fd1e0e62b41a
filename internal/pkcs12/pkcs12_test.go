package pkcs12_test

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math"
	"math/big"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	inner "software.sslmate.com/src/go-pkcs12"

	"victualler/internal/hosting/certificates"
	"victualler/internal/pkcs12"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == pkcs12.Command {
		os.Exit(pkcs12.Main(os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

func TestOpen(t *testing.T) {
	ctx := context.Background()
	key, err := certificates.ECDSA256.New()
	require.NoError(t, err)
	now := time.Now()
	template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "tern.example"},
		DNSNames: []string{"tern.example"}, NotBefore: now, NotAfter: now.Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)

	for name, encoder := range map[string]*inner.Encoder{"modern": inner.Modern, "of old": inner.LegacyDES} {
		file, err := encoder.Encode(key, leaf, []*x509.Certificate{leaf}, "tide")
		require.NoError(t, err, name)
		assert.True(t, certificates.IsPKCS12(file), name)
		text, err := pkcs12.Open(ctx, file, "tide")
		require.NoError(t, err, name)
		b, err := certificates.ReadBundle(text)
		require.NoError(t, err, name)
		assert.True(t, certificates.EqualKeys(b.Key.Public(), leaf.PublicKey), name)
		assert.True(t, b.Certificates[0].Equal(leaf), name)
		for _, wrong := range []string{"", "ebb"} {
			_, err = pkcs12.Open(ctx, file, wrong)
			assert.ErrorIs(t, err, pkcs12.ErrPassword, name)
		}
		_, err = pkcs12.Open(ctx, file[:len(file)-9], "tide")
		assert.Error(t, err, "cut off")
		assert.NotErrorIs(t, err, pkcs12.ErrWork)
	}

	t.Run("one that asks for too much work", func(t *testing.T) {
		if testing.Short() {
			t.Skip("5 s of work: make test")
		}
		file, err := inner.Modern.Encode(key, leaf, nil, "tide")
		require.NoError(t, err)
		var pfx struct {
			Version int
			Safe    asn1.RawValue
			MAC     struct {
				Digest asn1.RawValue
				Salt   []byte
				Rounds int
			}
		}
		_, err = asn1.Unmarshal(file, &pfx)
		require.NoError(t, err)
		pfx.MAC.Rounds = math.MaxInt32
		file, err = asn1.Marshal(pfx)
		require.NoError(t, err)
		begun := time.Now()
		_, err = pkcs12.Open(ctx, file, "tide")
		assert.ErrorIs(t, err, pkcs12.ErrWork)
		assert.Less(t, time.Since(begun), 30*time.Second)
	})
}
