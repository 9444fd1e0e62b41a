// Package acme speaks with certificate authorities (RFC 8555, RFC 9773).
// The protocol is golang.org/x/crypto/acme's; what it does not know yet,
// renewal information and orders that say what they replace, is added here.
// What is ordered when, and what becomes of it, is decided elsewhere.
package acme

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	wire "golang.org/x/crypto/acme"

	"victualler/internal/hosting/certificates"
	"victualler/internal/version"
)

// Authority is where and as whom an authority is spoken to.
type Authority struct {
	// Directory is the URL of the authority's directory.
	Directory string
	// Root, PEM, is trusted for the connection beside the machine's own list; empty adds none.
	Root string
	// Key is the account's, ECDSA P-256; URL is the account's, empty before it is registered.
	Key *ecdsa.PrivateKey
	URL string
}

// Client speaks with one authority. Make one with [New]. Any number of goroutines may use it at
// the same time, but for Register and ChangeKey: these change what the others sign with, and are
// for whoever shares it with nobody yet.
type Client struct {
	authority Authority
	inner     *wire.Client
	http      *http.Client
	// known is what the directory says, once it was asked.
	known atomic.Pointer[extra]
}

// A request that fails in a way that may pass is tried again so often,
// and one request takes so long at most.
const (
	tries       = 4
	requestTime = 30 * time.Second
	mostRead    = 1 << 20
)

// New returns a client.
func New(a Authority) (*Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if a.Root != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM([]byte(a.Root)) {
			return nil, errors.New("the authority's root is no certificate in PEM")
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool}
	}
	c := &Client{authority: a, http: &http.Client{Transport: pace{transport}, Timeout: requestTime}}
	c.inner = &wire.Client{Key: a.Key, DirectoryURL: a.Directory, HTTPClient: c.http, UserAgent: "victualler/" +
		version.Version, KID: wire.KeyID(a.URL), RetryBackoff: backoff}
	return c, nil
}

// pace notes how long an authority wants to be left alone, as it says in its answer, for whoever
// made the request ([withPace]): the library has no place for it.
type pace struct{ inner *http.Transport }

type paceKey struct{}

// withPace returns a context for one call, and what the last answer to it says of Retry-After.
func withPace(ctx context.Context) (context.Context, *atomic.Int64) {
	said := new(atomic.Int64)
	return context.WithValue(ctx, paceKey{}, said), said
}

// RoundTrip is what [http.Client] calls.
func (p pace) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := p.inner.RoundTrip(request)
	if err == nil {
		if said, is := request.Context().Value(paceKey{}).(*atomic.Int64); is {
			said.Store(int64(retryAfter(response.Header)))
		}
	}
	return response, err
}

// CloseIdleConnections is what [http.Client] looks for.
func (p pace) CloseIdleConnections() { p.inner.CloseIdleConnections() }

// retryAfter reads how long is to be waited, in seconds or until a date
// (RFC 9110, section 10.2.3); 0 where nothing is said.
func retryAfter(h http.Header) time.Duration {
	said := h.Get("Retry-After")
	if seconds, err := strconv.Atoi(said); err == nil {
		return max(0, time.Duration(seconds)*time.Second)
	}
	at, err := http.ParseTime(said)
	if err != nil {
		return 0
	}
	now, err := http.ParseTime(h.Get("Date")) // by its own clock, which may differ from ours
	if err != nil {
		now = time.Now()
	}
	return max(0, at.Sub(now))
}

// backoff is how long is waited before a request is made again; 0 is not at all. What an authority
// limits is not asked for again at once.
func backoff(n int, _ *http.Request, response *http.Response) time.Duration {
	if n >= tries || response.StatusCode == http.StatusTooManyRequests {
		return 0
	}
	if response.StatusCode == http.StatusBadRequest { // a nonce that was refused: the next one is there
		return time.Millisecond
	}
	return time.Duration(n) * time.Second
}

// Close lets idle connections go.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Directory is what an authority says of itself (RFC 8555, section 9.7.6).
type Directory struct {
	Terms string
	// Identities are the names that CAA records know it by.
	Identities []string
	// NeedsExternal says that accounts need an external one.
	NeedsExternal bool
	// Profiles are the kinds of certificates that are offered, sorted.
	Profiles []string
	// Renewal says that it tells when certificates should be renewed.
	Renewal bool
}

// extra is what the directory says that the library does not read.
type extra struct {
	NewNonce    string `json:"newNonce"`
	NewOrder    string `json:"newOrder"`
	RenewalInfo string `json:"renewalInfo"`
}

func (c *Client) extra(ctx context.Context) (extra, error) {
	if known := c.known.Load(); known != nil {
		return *known, nil
	}
	var e extra
	_, err := c.get(ctx, c.authority.Directory, &e)
	if err == nil {
		c.known.Store(&e)
	}
	return e, err
}

// Discover asks what the authority says of itself.
func (c *Client) Discover(ctx context.Context) (Directory, error) {
	d, err := c.inner.Discover(ctx)
	if err != nil && !Theirs(err) || err == nil && (d.OrderURL == "" || d.NonceURL == "") {
		return Directory{}, errors.New("what is there is no directory of an authority (RFC 8555, section 7.1.1)")
	}
	if err != nil {
		return Directory{}, err
	}
	e, err := c.extra(ctx)
	if err != nil {
		return Directory{}, err
	}
	out := Directory{Terms: d.Terms, NeedsExternal: d.ExternalAccountRequired, Renewal: e.RenewalInfo != ""}
	for _, name := range d.CAA {
		out.Identities = append(out.Identities, strings.ToLower(name))
	}
	for p := range d.Profiles {
		out.Profiles = append(out.Profiles, string(p))
	}
	slices.Sort(out.Profiles)
	return out, nil
}

// External is an account that somebody has with the authority in
// another way (RFC 8555, section 7.3.4).
type External struct {
	ID string
	// Key is as the authority gives it, base64url; plain base64 is taken as well.
	Key string
}

// Register makes the account, or finds the one that the key has, and
// returns its URL. Whoever calls has agreed to the terms.
func (c *Client) Register(ctx context.Context, email string, external *External) (string, error) {
	a := &wire.Account{Contact: contacts(email)}
	if external != nil && external.ID != "" {
		key, err := base64.RawURLEncoding.DecodeString(strings.NewReplacer("+", "-", "/", "_", "=",
			"").Replace(strings.TrimSpace(external.Key)))
		if err != nil {
			return "", fmt.Errorf("the key of the external account is not base64url: %w", err)
		}
		a.ExternalAccountBinding = &wire.ExternalAccountBinding{KID: external.ID, Key: key}
	}
	made, err := c.inner.Register(ctx, a, wire.AcceptTOS)
	if errors.Is(err, wire.ErrAccountAlreadyExists) {
		made, err = c.inner.GetReg(ctx, "")
	}
	if err != nil {
		return "", err
	}
	c.authority.URL, c.inner.KID = made.URI, wire.KeyID(made.URI)
	return made.URI, nil
}

// Mine asks for the URL of the account that the key has; empty if it
// has none (RFC 8555, section 7.3.1).
func (c *Client) Mine(ctx context.Context) (string, error) {
	account, err := c.inner.GetReg(ctx, "")
	if errors.Is(err, wire.ErrNoAccount) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return account.URI, nil
}

// contacts are where the authority may write to (RFC 8555, section 7.3); none for no address.
func contacts(email string) []string {
	if email == "" {
		return []string{}
	}
	return []string{"mailto:" + email}
}

// ChangeContact has the authority write to another address from now on,
// or to none (RFC 8555, section 7.3.2).
func (c *Client) ChangeContact(ctx context.Context, email string) error {
	e, err := c.extra(ctx)
	if err != nil {
		return err
	}
	_, err = c.post(ctx, e.NewNonce, c.authority.URL, map[string][]string{"contact": contacts(email)})
	return err
}

// ChangeKey gives the account another key (RFC 8555, section 7.3.5).
func (c *Client) ChangeKey(ctx context.Context, key *ecdsa.PrivateKey) error {
	return c.inner.AccountKeyRollover(ctx, key)
}

// Order is an order as the authority has it.
type Order struct {
	URL, Status, Finalize, Certificate string
	Proofs                             []string
	// Failure is why an order is invalid.
	Failure error
	// Wait is after how long the authority wants to be asked again; 0 where it does not say (RFC
	// 8555, sections 7.4 and 7.5.1).
	Wait time.Duration
}

func orderOf(o *wire.Order) Order {
	out := Order{URL: o.URI, Status: o.Status, Finalize: o.FinalizeURL, Certificate: o.CertURL, Proofs: o.AuthzURLs}
	if o.Error != nil {
		out.Failure = o.Error
	}
	return out
}

// Order orders a certificate. Replaces is the one whose place it takes,
// if it was this authority's (RFC 9773, section 5).
func (c *Client) Order(ctx context.Context, names []string, profile string, replaces *x509.Certificate) (Order, error) {
	if replaces != nil {
		e, err := c.extra(ctx)
		if err == nil && e.RenewalInfo != "" {
			url, err := c.orderInPlace(ctx, e, names, profile, CertificateID(replaces))
			if err == nil {
				return c.OrderAt(ctx, url)
			}
			if Reason(err).Limited {
				return Order{}, err
			}
			// Whatever keeps it from taking that one's place: a certificate is needed all the same.
		}
	}
	var options []wire.OrderOption
	if profile != "" {
		options = append(options, wire.WithOrderIssuanceProfile(wire.ProfileName(profile)))
	}
	o, err := c.inner.AuthorizeOrder(ctx, wire.DomainIDs(names...), options...)
	if err != nil {
		return Order{}, err
	}
	return orderOf(o), nil
}

// OrderAt looks at an order.
func (c *Client) OrderAt(ctx context.Context, url string) (Order, error) {
	ctx, said := withPace(ctx)
	o, err := c.inner.GetOrder(ctx, url)
	if err != nil {
		return Order{}, err
	}
	out := orderOf(o)
	out.URL, out.Wait = url, time.Duration(said.Load())
	return out, nil
}

// Proof is the authority's demand that a name be proved (an
// authorization, RFC 8555, section 7.1.4).
type Proof struct {
	URL, Name, Status string
	Wildcard          bool
	Challenges        []Challenge
	// Failure is why it is invalid.
	Failure error
}

// Challenge is one way of proving a name.
type Challenge struct {
	URL, Kind, Status string
	// Token is part of the path at which the challenge is met over HTTP, and Value what is answered
	// there; for DNS, Value is the text of the record.
	Token, Value string
}

// ProofAt looks at a demand.
func (c *Client) ProofAt(ctx context.Context, url string) (Proof, error) {
	z, err := c.inner.GetAuthorization(ctx, url)
	if err != nil {
		return Proof{}, err
	}
	p := Proof{URL: url, Name: z.Identifier.Value, Status: z.Status, Wildcard: z.Wildcard}
	for _, one := range z.Challenges {
		out := Challenge{URL: one.URI, Kind: one.Type, Status: one.Status, Token: one.Token}
		switch one.Type {
		case certificates.ByHTTP:
			out.Value, err = c.inner.HTTP01ChallengeResponse(one.Token)
		case certificates.ByDNS:
			out.Value, err = c.inner.DNS01ChallengeRecord(one.Token)
		default:
			continue
		}
		if err != nil {
			return p, err
		}
		if one.Error != nil {
			p.Failure = one.Error
		}
		p.Challenges = append(p.Challenges, out)
	}
	return p, nil
}

// Accept tells the authority that a challenge is met.
func (c *Client) Accept(ctx context.Context, challenge Challenge) error {
	_, err := c.inner.Accept(ctx, &wire.Challenge{URI: challenge.URL, Type: challenge.Kind, Token: challenge.Token})
	return err
}

// Finalize hands in the signing request of an order whose names are proved. The certificate is
// there when the order is valid, for which should be asked after the time that is returned.
func (c *Client) Finalize(ctx context.Context, o Order, request []byte) (time.Duration, error) {
	e, err := c.extra(ctx)
	if err != nil {
		return 0, err
	}
	header, err := c.post(ctx, e.NewNonce, o.Finalize,
		map[string]string{"csr": base64.RawURLEncoding.EncodeToString(request)})
	return retryAfter(header), err
}

// Download fetches the certificate of a valid order, the site's own first.
func (c *Client) Download(ctx context.Context, o Order) ([]*x509.Certificate, error) {
	ders, err := c.inner.FetchCert(ctx, o.Certificate, true)
	if err != nil {
		return nil, err
	}
	var chain []*x509.Certificate
	for _, der := range ders {
		one, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, err
		}
		chain = append(chain, one)
	}
	return chain, nil
}

// Revoke has a certificate revoked, with a reason of RFC 5280, section 5.3.1.
func (c *Client) Revoke(ctx context.Context, certificate *x509.Certificate, reason int) error {
	return c.inner.RevokeCert(ctx, nil, certificate.Raw, wire.CRLReasonCode(reason))
}

// CertificateID is how renewal information names a certificate (RFC 9773, section 4.1).
func CertificateID(c *x509.Certificate) string {
	serial := c.SerialNumber.Bytes()
	if len(serial) > 0 && serial[0]&0x80 != 0 { // as in DER, which is signed
		serial = append([]byte{0}, serial...)
	}
	return base64.RawURLEncoding.EncodeToString(c.AuthorityKeyId) + "." + base64.RawURLEncoding.EncodeToString(serial)
}

// Renewal is when an authority wants a certificate renewed.
type Renewal struct {
	certificates.Window
	// Explanation is a URL, where the authority has something to say about it.
	Explanation string
	// RetryAfter is after how long it should be asked again.
	RetryAfter time.Duration
}

// askAgain is how often is asked at most and at least (RFC 9773, section 4.3).
const (
	minRetry = time.Minute
	maxRetry = 24 * time.Hour
)

// Renewal asks when a certificate should be renewed; nothing from an authority that does not say.
func (c *Client) Renewal(ctx context.Context, certificate *x509.Certificate) (*Renewal, error) {
	e, err := c.extra(ctx)
	if err != nil || e.RenewalInfo == "" || len(certificate.AuthorityKeyId) == 0 {
		return nil, err
	}
	var info struct {
		Window struct{ Start, End time.Time } `json:"suggestedWindow"`
		URL    string                         `json:"explanationURL"`
	}
	header, err := c.get(ctx, strings.TrimSuffix(e.RenewalInfo, "/")+"/"+CertificateID(certificate), &info)
	if err != nil {
		return nil, err
	}
	if !info.Window.End.After(info.Window.Start) {
		return nil, errors.New("the authority's window for renewal ends before it begins")
	}
	wait := retryAfter(header)
	if wait == 0 {
		wait = 6 * time.Hour
	}
	return &Renewal{certificates.Window{Start: info.Window.Start, End: info.Window.End}, info.URL,
		min(max(wait, minRetry), maxRetry)}, nil
}

// Why is what an authority's refusal means.
type Why struct {
	// Kind is the last part of the problem's type, such as
	// "rateLimited"; empty for what is no answer of an authority.
	Kind, Detail string
	// Limited says that it may be asked again after Wait, as it has
	// been asked too often; a Wait of 0 was not told.
	Limited bool
	Wait    time.Duration
	// Passing says that the same may work at another time: the
	// authority was not reached, or is in trouble.
	Passing bool
}

// Theirs reports whether an error came of asking an authority, and not of anything else.
func Theirs(err error) bool {
	var refused *wire.Error
	var failed *url.Error
	return errors.As(err, &refused) || errors.As(err, &failed)
}

// Reason reads an error of this package.
func Reason(err error) Why {
	var refused *wire.Error
	if !errors.As(err, &refused) {
		return Why{Detail: err.Error(), Passing: true}
	}
	w := Why{Kind: refused.ProblemType[strings.LastIndex(refused.ProblemType, ":")+1:], Detail: refused.Detail}
	if wait, limited := wire.RateLimit(refused); limited {
		w.Limited, w.Wait = true, wait
	}
	for _, one := range refused.Subproblems {
		w.Detail += fmt.Sprintf("; %s: %s", one.Identifier.Value, one.Detail)
	}
	w.Passing = w.Limited || refused.StatusCode >= 500 || w.Kind == "badNonce" || w.Kind == "serverInternal"
	return w
}

// get reads a document that is not signed.
func (c *Client) get(ctx context.Context, url string, into any) (http.Header, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	response, text, err := c.do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, refusal(response, text)
	}
	return response.Header, json.Unmarshal(text, into)
}

// do makes a request and reads the answer; one that is no success is an error.
func (c *Client) do(request *http.Request) (*http.Response, []byte, error) {
	response, err := c.http.Do(request)
	if err != nil {
		return nil, nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, mostRead))
	if err != nil {
		return nil, nil, err
	}
	if response.StatusCode >= 300 {
		return nil, nil, refusal(response, text)
	}
	return response, text, nil
}

func refusal(response *http.Response, text []byte) error {
	var p struct {
		Type, Detail string
		Subproblems  []struct {
			Type, Detail string
			Identifier   struct{ Type, Value string }
		}
	}
	_ = json.Unmarshal(text, &p)
	e := &wire.Error{StatusCode: response.StatusCode, ProblemType: p.Type, Detail: p.Detail, Header: response.Header}
	if e.Detail == "" {
		e.Detail = response.Status
	}
	for _, one := range p.Subproblems {
		e.Subproblems = append(e.Subproblems, wire.Subproblem{Type: one.Type, Detail: one.Detail,
			Identifier: &wire.AuthzID{Type: one.Identifier.Type, Value: one.Identifier.Value}})
	}
	return e
}

// orderInPlace orders what takes the place of a certificate, and returns the order's URL.
func (c *Client) orderInPlace(ctx context.Context, e extra, names []string, profile, replaces string) (string, error) {
	type identifier struct {
		Type  string `json:"type"`
		Value string `json:"value"`
	}
	asked := struct {
		Identifiers []identifier `json:"identifiers"`
		Profile     string       `json:"profile,omitempty"`
		Replaces    string       `json:"replaces"`
	}{Profile: profile, Replaces: replaces}
	for _, n := range names {
		asked.Identifiers = append(asked.Identifiers, identifier{"dns", n})
	}
	header, err := c.post(ctx, e.NewNonce, e.NewOrder, asked)
	if err != nil {
		return "", err
	}
	if header.Get("Location") == "" {
		return "", errors.New("the authority does not say where the order is")
	}
	return header.Get("Location"), nil
}

// post makes one signed request (RFC 8555, section 6.2), and again with
// another nonce if the one was refused.
func (c *Client) post(ctx context.Context, nonceURL, url string, document any) (http.Header, error) {
	payload, err := json.Marshal(document)
	if err != nil {
		return nil, err
	}
	for n := 1; ; n++ {
		header, err := c.postSigned(ctx, nonceURL, url, payload)
		if err == nil || n == tries || Reason(err).Kind != "badNonce" {
			return header, err
		}
	}
}

func (c *Client) postSigned(ctx context.Context, nonceURL, url string, payload []byte) (http.Header, error) {
	ask, err := http.NewRequestWithContext(ctx, http.MethodHead, nonceURL, nil)
	if err != nil {
		return nil, err
	}
	fresh, _, err := c.do(ask)
	if err != nil {
		return nil, err
	}
	message, err := sign(c.authority.Key, map[string]string{"alg": "ES256", "kid": c.authority.URL,
		"nonce": fresh.Header.Get("Replay-Nonce"), "url": url}, payload)
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(message))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/jose+json")
	response, _, err := c.do(request)
	if err != nil {
		return nil, err
	}
	return response.Header, nil
}

// sign makes a flattened JSON Web Signature with ES256 (RFC 7515,
// section 7.2.2; RFC 7518, section 3.4).
func sign(key *ecdsa.PrivateKey, header map[string]string, payload []byte) ([]byte, error) {
	protected, err := json.Marshal(header)
	if err != nil {
		return nil, err
	}
	encode := base64.RawURLEncoding.EncodeToString
	first, second := encode(protected), encode(payload)
	sum := sha256.Sum256([]byte(first + "." + second))
	r, s, err := ecdsa.Sign(rand.Reader, key, sum[:])
	if err != nil {
		return nil, err
	}
	signature := make([]byte, 64)
	r.FillBytes(signature[:32])
	s.FillBytes(signature[32:])
	return json.Marshal(map[string]string{"protected": first, "payload": second, "signature": encode(signature)})
}
