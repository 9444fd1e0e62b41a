package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	_ "embed"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	wire "golang.org/x/crypto/acme"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
)

// ordersAtOnce is how many certificates are ordered in the same moment.
const ordersAtOnce = 200

// certificates measures how long it is from an order to a handshake with the new certificate:
// through the service, and with a program that does nothing but what the protocol asks for.
func (b *bench) certificates(ctx context.Context, say func(string), rounds int) ([]row, error) {
	if err := b.proveAnew(ctx); err != nil {
		return nil, err
	}
	if err := b.Client.Post(ctx, "/authorities", api.NewAuthority{Name: "bench", Directory: b.Authority.Directory(),
		Root: b.Authority.Root(), AcceptTerms: true}, nil); err != nil {
		return nil, err
	}
	limits := plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1),
		plans.Subdomains: plans.Of(ordersAtOnce), plans.PHPWorkers: plans.Of(3)}
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "lettered", Limits: limits,
		Features: plans.Features{"certificates": true}}, nil); err != nil {
		return nil, err
	}
	at := func(s *lab.Server) string {
		return fmt.Sprintf("@ A %s\n@ AAAA %s\n*.letters.example. A %s\n*.letters.example. AAAA %s\n", s.Address,
			lab.Address6(s.Address), s.Address, lab.Address6(s.Address))
	}
	if err := errors.Join(b.PublicDNS.Serve("letters.example", at(b.ours)),
		b.PublicDNS.Serve("plain.example", at(b.script))); err != nil {
		return nil, err
	}
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "letters.example", Plan: "lettered",
		Customer: "Bench", Server: "skua"}, &opening); err != nil {
		return nil, err
	}
	if err := b.finished(ctx, opening.Operation); err != nil {
		return nil, err
	}
	domains := fmt.Sprintf("/accounts/%d/domains", opening.Account.ID)
	one := []string{"letters.example"}
	if err := b.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains + "/letters.example/certificate",
		Body: api.CertificateChange{Names: &one}}, nil); err != nil {
		return nil, err
	}
	plain, err := b.plainProgram(ctx)
	if err != nil {
		return nil, err
	}
	if err := b.valid(ctx, "letters.example", 1); err != nil {
		return nil, err
	}
	say("one certificate, in turn by the product and by a plain program")
	var ours, theirs []time.Duration
	for range rounds + 1 {
		d, err := b.orderOne(ctx, domains, "letters.example")
		if err != nil {
			return nil, err
		}
		ours = append(ours, d)
		if d, err = plain(ctx); err != nil {
			return nil, err
		}
		theirs = append(theirs, d)
	}
	alone, aloneThere := median(ours[1:]), median(theirs[1:])
	rows := []row{compare("one certificate, from order to verified handshake; a plain program with the same protocol",
		alone, aloneThere, func(r float64) bool {
			return r <= 1.5
		}, "at most 1.5")}

	say(fmt.Sprintf("%d certificates at once", ordersAtOnce))
	var names []string
	for n := range ordersAtOnce {
		names = append(names, fmt.Sprintf("s%d.letters.example", n))
		if err := b.Client.Post(ctx, domains, api.NewDomain{Domain: names[n], Serving: api.Serving{ServedAs: "redirect",
			Target: "https://letters.example"}}, nil); err != nil {
			return nil, err
		}
	}
	begun := time.Now()
	if err := b.valid(ctx, ".letters.example", ordersAtOnce); err != nil {
		return nil, err
	}
	say(fmt.Sprintf("they had their first ones %s after the last site was added",
		time.Since(begun).Round(100*time.Millisecond)))
	before, err := b.reloads(ctx)
	if err != nil {
		return nil, err
	}
	errs := make([]error, len(names))
	var group sync.WaitGroup
	begun = time.Now()
	for k, name := range names {
		group.Go(func() { _, errs[k] = b.orderOne(ctx, domains, name) })
	}
	group.Wait()
	all := time.Since(begun)
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	after, err := b.reloads(ctx)
	if err != nil {
		return nil, err
	}
	each := all / ordersAtOnce
	rows = append(rows, compare(fmt.Sprintf("each of %d certificates at once; one alone", ordersAtOnce), each, alone,
		func(r float64) bool {
			return r < 0.5
		}, "below 0.5"))
	return append(rows, row{fmt.Sprintf("reloads of nginx for those %d", ordersAtOnce), fmt.Sprint(after - before),
		fmt.Sprint(ordersAtOnce), fmt.Sprintf("%.2f", float64(after-before)/ordersAtOnce), "clearly below 1",
		after-before < ordersAtOnce/2}), nil
}

// proveAnew has the authority want every name proved for every order,
// or only the first would have to prove anything.
func (b *bench) proveAnew(ctx context.Context) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodPatch, "http://"+b.Authority.Control+"/settings",
		strings.NewReader(`{"fresh": true}`))
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("the certificate authority: %s", response.Status)
	}
	return nil
}

// valid waits until so many sites show an authority's certificate.
func (b *bench) valid(ctx context.Context, search string, want int) error {
	for {
		got := 0
		for cursor := ""; ; {
			var page api.CertificatePage
			query := map[string][]string{"search": {search}, "limit": {"100"}}
			if cursor != "" {
				query["cursor"] = []string{cursor}
			}
			if err := b.Client.Get(ctx, "/certificates", query, &page); err != nil {
				return err
			}
			for _, c := range page.Certificates {
				if c.State == "valid" {
					got++
				}
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if got >= want {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (b *bench) orderOne(ctx context.Context, domains, name string) (time.Duration, error) {
	begun := time.Now()
	var started api.Started
	// Of the names below, www leads here as well, as everything does.
	if err := b.Client.Post(ctx, domains+"/"+name+"/certificate/order", api.CertificateOrder{LeaveOut: true},
		&started); err != nil {
		return 0, err
	}
	if err := b.finished(ctx, started.Operation); err != nil {
		return 0, err
	}
	_, err := b.handshake(b.ours.Address, name)
	return time.Since(begun), err
}

// handshake returns what a server shows under a name, if it is to be trusted.
func (b *bench) handshake(server netip.Addr, name string) (*x509.Certificate, error) {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(b.Authority.Root()))
	conn, err := tls.Dial("tcp", netip.AddrPortFrom(server, 443).String(), &tls.Config{ServerName: name, RootCAs: pool})
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0], nil
}

//go:embed plain-site.sh
var plainSite string

// plainProgram registers an account with the authority, sets a site up, and returns what has a
// certificate for it issued and shown: the steps of the protocol, and no checks.
func (b *bench) plainProgram(ctx context.Context) (func(context.Context) (time.Duration, error), error) {
	if _, err := b.script.Exec(ctx, "sh", "-c", plainSite); err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(b.Authority.Root()))
	account, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	c := &wire.Client{Key: account, DirectoryURL: b.Authority.Directory(),
		HTTPClient: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}}
	if _, err := c.Register(ctx, &wire.Account{}, wire.AcceptTOS); err != nil {
		return nil, err
	}
	return func(ctx context.Context) (time.Duration, error) {
		begun := time.Now()
		order, err := c.AuthorizeOrder(ctx, wire.DomainIDs("plain.example"))
		if err != nil {
			return 0, err
		}
		for _, url := range order.AuthzURLs {
			if err := b.provePlainly(ctx, c, url); err != nil {
				return 0, err
			}
		}
		if order, err = c.WaitOrder(ctx, order.URI); err != nil {
			return 0, err
		}
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return 0, err
		}
		request, err := x509.CreateCertificateRequest(rand.Reader,
			&x509.CertificateRequest{DNSNames: []string{"plain.example"}}, key)
		if err != nil {
			return 0, err
		}
		chain, _, err := c.CreateOrderCert(ctx, order.FinalizeURL, request, true)
		if err != nil {
			return 0, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return 0, err
		}
		leaf, err := x509.ParseCertificate(chain[0])
		if err != nil {
			return 0, err
		}
		var certificates strings.Builder
		for _, c := range chain {
			pem.Encode(&certificates, &pem.Block{Type: "CERTIFICATE", Bytes: c})
		}
		text := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
		if _, err := b.script.Exec(ctx, "sh", "-ec",
			`printf %s "$1" > /srv/plain/key.pem; printf %s "$2" > /srv/plain/chain.pem; nginx -t -q; nginx -s reload`,
			"sh", text, certificates.String()); err != nil {
			return 0, err
		}
		for {
			if shown, err := b.handshake(b.script.Address, "plain.example"); err == nil && shown.Equal(leaf) {
				return time.Since(begun), nil
			}
			select {
			case <-ctx.Done():
				return 0, ctx.Err()
			case <-time.After(5 * time.Millisecond):
			}
		}
	}, nil
}

func (b *bench) provePlainly(ctx context.Context, c *wire.Client, url string) error {
	proof, err := c.GetAuthorization(ctx, url)
	if err != nil || proof.Status == wire.StatusValid {
		return err
	}
	for _, challenge := range proof.Challenges {
		if challenge.Type != "http-01" {
			continue
		}
		answer, err := c.HTTP01ChallengeResponse(challenge.Token)
		if err != nil {
			return err
		}
		if _, err := b.script.Exec(ctx, "sh", "-ec", `printf %s "$2" > "/srv/plain/.well-known/acme-challenge/$1"`,
			"sh", challenge.Token, answer); err != nil {
			return err
		}
		if _, err := c.Accept(ctx, challenge); err != nil {
			return err
		}
		_, err = c.WaitAuthorization(ctx, url)
		return err
	}
	return errors.New("no challenge over HTTP is offered")
}
