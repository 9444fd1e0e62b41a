package demo

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/certificates"
)

// brief is how long certificates of the profile “minutes” last, so that a renewal can be watched.
const brief = 20 * time.Minute

// certify adds the authorities, and has one site of each kind: with all names below its domain,
// with certificates that last minutes, and with one that was bought.
func certify(ctx context.Context, c *client.Client, at Places) error {
	if err := lastMinutes(ctx, at.Authority); err != nil {
		return err
	}
	trial := api.NewAuthority{Name: "trial", Directory: at.Directory, Root: at.Root,
		Email: "certificates@ternisland.example", AcceptTerms: true,
		Bounds: []certificates.Bound{{Per: certificates.PerAccount, Most: 300, Hours: 3}}}
	if err := c.Post(ctx, "/authorities", trial, nil); err != nil {
		return ignoreExisting(err) // what was changed since the first load stays
	}
	minutes := trial
	minutes.Name, minutes.Profile, minutes.Bounds = "trial-minutes", "minutes", nil
	if err := c.Post(ctx, "/authorities", minutes, nil); err != nil {
		return err
	}
	zone := "challenges.ternisland.example"
	if err := c.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/settings",
		Body: api.SettingsChange{ChallengeZone: &zone}}, nil); err != nil {
		return err
	}
	names := []string{"ternisland.example", "*.ternisland.example"}
	for domain, change := range map[string]api.CertificateChange{"ternisland.example": {Names: &names},
		"ternislandnews.example": {Authority: &minutes.Name}} {
		if err := onCertificate(ctx, c, http.MethodPatch, domain, "", change); err != nil {
			return err
		}
	}
	text, err := bought("slipway.example", "www.slipway.example")
	if err != nil {
		return err
	}
	return onCertificate(ctx, c, http.MethodPost, "slipway.example", "/install",
		api.UploadedCertificate{Certificate: text})
}

func onCertificate(ctx context.Context, c *client.Client, method, domain, path string, body any) error {
	var page api.CertificatePage
	if err := c.Get(ctx, "/certificates", url.Values{"domain": {domain}}, &page); err != nil {
		return err
	}
	if len(page.Certificates) == 0 {
		return fmt.Errorf("there is no site %s", domain)
	}
	err := c.Do(ctx, client.Call{Method: method, Path: "/accounts/" + strconv.FormatInt(page.Certificates[0].AccountID,
		10) + "/domains/" + domain + "/certificate" + path, Body: body}, nil)
	if err != nil {
		return fmt.Errorf("certificate of %s: %w", domain, err)
	}
	return nil
}

// lastMinutes has the stand-in offer certificates that last minutes.
func lastMinutes(ctx context.Context, control string) error {
	text, err := json.Marshal(map[string]any{"lifetimes": map[string]time.Duration{"classic": 90 * 24 * time.Hour,
		"short": 6 * 24 * time.Hour, "minutes": brief}})
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPatch, "http://"+control+"/settings",
		bytes.NewReader(text))
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("the certificate authority: %s", response.Status)
	}
	return nil
}

// bought is a certificate as a shop sells it, with its key and the chain, that ends in twelve days.
func bought(names ...string) (string, error) {
	rootKey, err1 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	key, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err := errors.Join(err1, err2); err != nil {
		return "", err
	}
	now := time.Now()
	sign := func(serial int64, template, parent *x509.Certificate, public crypto.PublicKey) (*x509.Certificate, error) {
		template.SerialNumber, template.NotBefore, template.NotAfter = big.NewInt(serial), now.Add(-353*24*time.Hour),
			now.Add(12*24*time.Hour+time.Hour)
		der, err := x509.CreateCertificate(rand.Reader, template, parent, public, rootKey)
		if err != nil {
			return nil, err
		}
		return x509.ParseCertificate(der)
	}
	shop := &x509.Certificate{Subject: pkix.Name{Organization: []string{"Harbour Street Letters"},
		CommonName: "Site certificates"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	root, err := sign(now.Unix(), shop, shop, rootKey.Public())
	if err != nil {
		return "", err
	}
	leaf, err := sign(now.Unix()+1, &x509.Certificate{DNSNames: names,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, root, key.Public())
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})) + certificates.PEM(
		[]*x509.Certificate{leaf, root}), nil
}
