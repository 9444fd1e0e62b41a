// Package authority stands in for a certificate authority in demo and tests: a small
// server that speaks RFC 8555 (ACME) and RFC 9773 (renewal information), really asks
// names for their challenges through public DNS, honours CAA records,
// and can be told to fail in the ways in which authorities fail. Everything it knows
// goes when it ends, but for its own keys, which whoever starts it keeps.
package authority

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"victualler/internal/resolve"
)

// Settings can be changed while the authority runs.
type Settings struct {
	// Lifetimes are the profiles that are offered, and how long their
	// certificates last. The first by name is the usual one.
	Lifetimes map[string]time.Duration `json:"lifetimes"`
	// ExternalKeys are the keys of external account bindings by their
	// number, as base64url. With any, accounts need one.
	ExternalKeys map[string]string `json:"external_keys,omitempty"`
	// Slow is how long validation and issuing take.
	Slow time.Duration `json:"slow,omitempty"`
	// BadNonces is how many of the next requests are told that their
	// nonce was bad, however good it was.
	BadNonces int `json:"bad_nonces,omitempty"`
	// Errors is how many of the next requests are answered with 500.
	Errors int `json:"errors,omitempty"`
	// InvalidOnce has the next validation fail without a look.
	InvalidOnce bool `json:"invalid_once,omitempty"`
	// OrdersPerHour bounds the orders of an account; 0 is no bound.
	OrdersPerHour int `json:"orders_per_hour,omitempty"`
	// RetryAfter is what an account over that bound is told; 0 is the
	// time until the bound is no longer reached.
	RetryAfter time.Duration `json:"retry_after,omitempty"`
	// Blind lists names whose validation fails, however right all is.
	Blind []string `json:"blind,omitempty"`
	// Fresh has every name proved anew for every order.
	Fresh bool `json:"fresh,omitempty"`
	// Ahead is by how much its clock is ahead of the machine's; less than 0 is behind.
	Ahead time.Duration `json:"ahead,omitempty"`
	// Renew has all certificates' suggested windows be now.
	Renew bool `json:"renew,omitempty"`
}

// Identity is how the authority is known in CAA records.
const Identity = "authority.test"

// Options say how an authority is started.
type Options struct {
	// Address is where it answers over TLS; Control where it is set over HTTP. Hosts and ports.
	Address, Control string
	// Resolver is what it asks about names.
	Resolver *resolve.Resolver
	// From are places from which names are asked for their challenges, all of which must succeed:
	// each is addresses of this machine, of either family or both. None is the machine's choice.
	From [][]netip.Addr
	// Keys is a file that keeps the authority's own keys and certificates; empty keeps none.
	Keys string
	Now  func() time.Time
}

// Authority is a running stand-in. Make one with [Listen].
type Authority struct {
	options Options
	issuer  *issuer
	base    string
	Control string
	server  *http.Server
	control *http.Server

	ahead atomic.Int64 // as in the settings, for whoever holds no lock

	mu       sync.Mutex
	settings Settings
	nonces   map[string]bool
	accounts map[string]*account // by number
	orders   map[string]*order
	proofs   map[string]*authorization
	issued   map[string]*certificate // by serial number
	next     int
}

type account struct {
	number     string
	key        crypto.PublicKey
	jwk        json.RawMessage
	thumbprint string
	contact    []string
	status     string
	orders     []time.Time
}

type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

type order struct {
	number      string
	account     *account
	status      string
	expires     time.Time
	identifiers []identifier
	proofs      []*authorization
	profile     string
	replaces    string
	failure     *problem
	certificate *certificate
}

type authorization struct {
	number     string
	account    *account
	identifier identifier
	wildcard   bool
	status     string
	expires    time.Time
	challenges []*challenge
}

type challenge struct {
	number    string
	kind      string
	token     string
	status    string
	validated time.Time
	failure   *problem
}

// An order waits so long for its challenges, and a proof counts so long
// for others of the same account.
const (
	orderLife = 7 * 24 * time.Hour
	proofLife = time.Hour
)

// Listen answers until [Authority.Close].
func Listen(o Options) (*Authority, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	a := &Authority{options: o, settings: Settings{Lifetimes: map[string]time.Duration{"classic": 90 * 24 * time.Hour,
		"short": 6 * 24 * time.Hour}},
		nonces: map[string]bool{}, accounts: map[string]*account{}, orders: map[string]*order{},
		proofs: map[string]*authorization{}, issued: map[string]*certificate{}}
	a.options.Now = func() time.Time { return o.Now().Add(time.Duration(a.ahead.Load())) }
	var err error
	if a.issuer, err = loadIssuer(o.Keys, o.Now()); err != nil {
		return nil, err
	}
	if err := a.readAccounts(); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, err
	}
	host, _, _ := net.SplitHostPort(listener.Addr().String())
	own, err := a.issuer.ownCertificate(host, o.Now())
	if err != nil {
		listener.Close()
		return nil, err
	}
	a.base = "https://" + listener.Addr().String()
	a.server = &http.Server{Handler: a.routes(), TLSConfig: &tls.Config{Certificates: []tls.Certificate{own}},
		ReadHeaderTimeout: 10 * time.Second}
	go a.server.ServeTLS(listener, "", "")
	if o.Control != "" {
		pages, err := net.Listen("tcp", o.Control)
		if err != nil {
			a.Close()
			return nil, err
		}
		a.Control = pages.Addr().String()
		a.control = &http.Server{Handler: a.controls(), ReadHeaderTimeout: 10 * time.Second}
		go a.control.Serve(pages)
	}
	return a, nil
}

// keptAccount is an account as it is kept beside the authority's keys.
type keptAccount struct {
	Number  string          `json:"number"`
	Key     json.RawMessage `json:"key"`
	Contact []string        `json:"contact"`
	Status  string          `json:"status"`
}

// keepAccounts writes the accounts down, so that clients find theirs again.
func (a *Authority) keepAccounts() {
	if a.options.Keys == "" {
		return
	}
	var list []keptAccount
	for _, one := range a.accounts {
		list = append(list, keptAccount{one.number, one.jwk, one.contact, one.status})
	}
	if text, err := json.Marshal(list); err == nil {
		os.WriteFile(a.options.Keys+".accounts", text, 0o600)
	}
}

func (a *Authority) readAccounts() error {
	text, err := os.ReadFile(a.options.Keys + ".accounts")
	if err != nil || a.options.Keys == "" {
		return nil
	}
	var list []keptAccount
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	for _, one := range list {
		key, thumbprint, err := publicKey(one.Key)
		if err != nil {
			return err
		}
		a.accounts[one.Number] = &account{number: one.Number, key: key, jwk: one.Key, thumbprint: thumbprint,
			contact: one.Contact, status: one.Status}
		if n, err := strconv.Atoi(one.Number); err == nil {
			a.next = max(a.next, n)
		}
	}
	return nil
}

// Close ends it at once, with whatever it is asked just now.
func (a *Authority) Close() {
	a.server.Close()
	if a.control != nil {
		a.control.Close()
	}
}

// Directory is the URL that clients begin with.
func (a *Authority) Directory() string { return a.base + "/directory" }

// Root is the certificate, as PEM, that clients must trust, both for
// the connection and for what is issued.
func (a *Authority) Root() string { return a.issuer.rootPEM() }

// Set changes the settings.
func (a *Authority) Set(change func(*Settings)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	change(&a.settings)
	a.ahead.Store(int64(a.settings.Ahead))
}

// Forget has it know no account and no order any more, as if it had
// been restored from an old backup.
func (a *Authority) Forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	clear(a.accounts)
	clear(a.orders)
}

// Orders is how many orders there have been.
func (a *Authority) Orders() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.orders)
}

func (a *Authority) controls() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /root.pem", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, a.Root()) })
	mux.HandleFunc("GET /settings", func(w http.ResponseWriter, _ *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		writeJSON(w, http.StatusOK, a.settings)
	})
	// What is not in the body stays as it is.
	mux.HandleFunc("PATCH /settings", func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		changed := a.settings
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&changed); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		a.settings = changed
		a.ahead.Store(int64(changed.Ahead))
	})
	return mux
}

func (a *Authority) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", a.directory)
	mux.HandleFunc("GET /terms", func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "Certificates of this authority are for trying things out. Nobody else trusts them.\n")
	})
	mux.HandleFunc("GET /new-nonce", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("HEAD /new-nonce", func(w http.ResponseWriter, _ *http.Request) {})
	mux.HandleFunc("GET /renewal-info/{id}", a.renewalInfo)
	for path, handle := range map[string]func(*call) *problem{
		"/new-account": a.newAccount, "/new-order": a.newOrder, "/account/{n}": a.changeAccount,
		"/account/{n}/orders": a.ordersOf, "/order/{n}": a.showOrder,
		"/order/{n}/finalize": a.finalize, "/authorization/{n}": a.showProof, "/challenge/{n}": a.resume,
		"/certificate/{n}": a.download,
		"/revoke":          a.revoke, "/key-change": a.changeKey,
	} {
		mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) { a.answer(w, r, handle) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Replay-Nonce", a.newNonce())
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Link", "<"+a.base+`/directory>;rel="index"`)
		a.mu.Lock()
		failing := a.settings.Errors > 0
		if failing {
			a.settings.Errors--
		}
		a.mu.Unlock()
		if failing {
			writeProblem(w, wrong("serverInternal", http.StatusInternalServerError, "something is wrong here; try "+
				"again later"))
			return
		}
		mux.ServeHTTP(w, r)
	})
}

func (a *Authority) directory(w http.ResponseWriter, _ *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	profiles := map[string]string{}
	for name, life := range a.settings.Lifetimes {
		profiles[name] = a.base + "/terms#" + name + " (" + life.String() + ")"
	}
	writeJSON(w, http.StatusOK, map[string]any{
		"newNonce": a.base + "/new-nonce", "newAccount": a.base + "/new-account", "newOrder": a.base + "/new-order",
		"revokeCert": a.base + "/revoke",
		"keyChange":  a.base + "/key-change", "renewalInfo": a.base + "/renewal-info",
		"meta": map[string]any{"termsOfService": a.base + "/terms", "caaIdentities": []string{Identity},
			"externalAccountRequired": len(a.settings.ExternalKeys) > 0, "profiles": profiles},
	})
}

// call is one signed request, with its signature checked, and its answer.
type call struct {
	w       http.ResponseWriter
	r       *http.Request
	header  header
	message message
	payload []byte
	key     crypto.PublicKey
	account *account // none for requests signed by a key of their own
}

// number is the last part of the resource's URL.
func (c *call) number() string { return c.r.PathValue("n") }

// read reads the payload into a document.
func (c *call) read(into any) *problem {
	if err := json.Unmarshal(c.payload, into); err != nil {
		return malformed("the payload cannot be read: %v", err)
	}
	return nil
}

// answer checks a signed request (RFC 8555, section 6.2) and has it
// answered, with everything locked.
func (a *Authority) answer(w http.ResponseWriter, r *http.Request, handle func(*call) *problem) {
	text, err := io.ReadAll(io.LimitReader(r.Body, 1<<17))
	c := &call{w: w, r: r}
	if err == nil {
		err = json.Unmarshal(text, &c.message)
	}
	if err != nil {
		writeProblem(w, malformed("the request is no signed message: %v", err))
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	p := a.check(c)
	if p == nil {
		p = handle(c)
	}
	if p != nil {
		writeProblem(w, p)
	}
}

func (a *Authority) check(c *call) *problem {
	if kind, _, _ := strings.Cut(c.r.Header.Get("Content-Type"), ";"); kind != "application/jose+json" {
		return wrong("malformed", http.StatusUnsupportedMediaType, "the content type must be application/jose+json")
	}
	h, err := c.message.header()
	if err != nil {
		return malformed("%v", err)
	}
	c.header = h
	if h.URL != a.base+c.r.URL.Path {
		return denied("the message is for %s, not for %s", h.URL, a.base+c.r.URL.Path)
	}
	if (len(h.Key) > 0) == (h.Account != "") {
		return malformed("exactly one of jwk and kid is needed")
	}
	if h.Account != "" {
		number := strings.TrimPrefix(h.Account, a.base+"/account/")
		if c.account = a.accounts[number]; c.account == nil {
			return wrong("accountDoesNotExist", http.StatusBadRequest, "there is no account %s", h.Account)
		}
		if c.account.status != "valid" {
			return denied("the account is %s", c.account.status)
		}
		c.key = c.account.key
	} else {
		if c.key, _, err = publicKey(h.Key); err != nil {
			return wrong("badPublicKey", http.StatusBadRequest, "%v", err)
		}
	}
	if err := c.message.verify(h.Algorithm, c.key); errors.Is(err, errAlgorithm) {
		return wrong("badSignatureAlgorithm", http.StatusBadRequest, "%v", err)
	} else if err != nil {
		return malformed("%v", err)
	}
	good := a.nonces[h.Nonce]
	delete(a.nonces, h.Nonce)
	if a.settings.BadNonces > 0 {
		a.settings.BadNonces--
		good = false
	}
	if !good {
		return wrong("badNonce", http.StatusBadRequest, "the nonce is not one of ours, or has been used")
	}
	if c.payload, err = c.message.payload(); err != nil {
		return malformed("the payload is not base64url: %v", err)
	}
	return nil
}

func (a *Authority) newNonce() string {
	nonce := rand.Text()
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.nonces) > 10_000 {
		clear(a.nonces)
	}
	a.nonces[nonce] = true
	return nonce
}

func (a *Authority) number() string {
	a.next++
	return strconv.Itoa(a.next)
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func writeProblem(w http.ResponseWriter, p *problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	if p.retryAfter != "" {
		w.Header().Set("Retry-After", p.retryAfter)
	}
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// newAccount is of RFC 8555, section 7.3.
func (a *Authority) newAccount(c *call) *problem {
	if c.account != nil {
		return malformed("a new account is asked for with a key")
	}
	var asked struct {
		Contact            []string        `json:"contact"`
		TermsOfServiceGood bool            `json:"termsOfServiceAgreed"`
		OnlyReturnExisting bool            `json:"onlyReturnExisting"`
		External           json.RawMessage `json:"externalAccountBinding"`
	}
	if p := c.read(&asked); p != nil {
		return p
	}
	_, thumbprint, _ := publicKey(c.header.Key)
	for _, known := range a.accounts {
		if known.thumbprint == thumbprint {
			return a.writeAccount(c, known, http.StatusOK)
		}
	}
	if asked.OnlyReturnExisting {
		return wrong("accountDoesNotExist", http.StatusBadRequest, "no account has this key")
	}
	if !asked.TermsOfServiceGood {
		return wrong("userActionRequired", http.StatusForbidden, "the terms of service at %s/terms must be agreed to",
			a.base)
	}
	if p := checkContacts(asked.Contact); p != nil {
		return p
	}
	if len(a.settings.ExternalKeys) > 0 {
		if len(asked.External) == 0 {
			return wrong("externalAccountRequired", http.StatusForbidden, "an external account is needed")
		}
		if _, p := a.bind(asked.External, c.header.Key, c.header.URL); p != nil {
			return p
		}
	}
	own := &account{number: a.number(), key: c.key, jwk: c.header.Key, thumbprint: thumbprint, contact: asked.Contact,
		status: "valid"}
	a.accounts[own.number] = own
	a.keepAccounts()
	return a.writeAccount(c, own, http.StatusCreated)
}

func checkContacts(list []string) *problem {
	for _, contact := range list {
		if !strings.HasPrefix(contact, "mailto:") {
			return wrong("unsupportedContact", http.StatusBadRequest, "%s: only mailto is known", contact)
		}
		if !strings.Contains(contact, "@") || strings.ContainsAny(contact, ",?") {
			return wrong("invalidContact", http.StatusBadRequest, "%s is no address of one person", contact)
		}
	}
	return nil
}

func (a *Authority) writeAccount(c *call, of *account, status int) *problem {
	c.w.Header().Set("Location", a.base+"/account/"+of.number)
	writeJSON(c.w, status, map[string]any{"status": of.status, "contact": of.contact, "orders": a.base + "/account/" +
		of.number + "/orders"})
	return nil
}

// changeAccount shows an account, changes its contacts, or ends it (RFC
// 8555, sections 7.3.2 and 7.3.6).
func (a *Authority) changeAccount(c *call) *problem {
	if c.account == nil || c.account.number != c.number() {
		return denied("the account is somebody else's")
	}
	if len(c.payload) > 0 {
		asked := struct {
			Contact []string `json:"contact"`
			Status  string   `json:"status"`
		}{Contact: c.account.contact}
		if p := c.read(&asked); p != nil {
			return p
		}
		if p := checkContacts(asked.Contact); p != nil {
			return p
		}
		c.account.contact = asked.Contact
		if asked.Status == "deactivated" {
			c.account.status = asked.Status
		}
		a.keepAccounts()
	}
	return a.writeAccount(c, c.account, http.StatusOK)
}

func (a *Authority) ordersOf(c *call) *problem {
	if c.account == nil || c.account.number != c.number() {
		return denied("the account is somebody else's")
	}
	list := []string{}
	for _, o := range a.orders {
		if o.account == c.account {
			list = append(list, a.base+"/order/"+o.number)
		}
	}
	writeJSON(c.w, http.StatusOK, map[string]any{"orders": list})
	return nil
}

// changeKey is of RFC 8555, section 7.3.5: the new key signs that it
// wants the account, the old one that it may have it.
func (a *Authority) changeKey(c *call) *problem {
	if c.account == nil {
		return malformed("the account's own key asks for its change")
	}
	var inner message
	if p := c.read(&inner); p != nil {
		return p
	}
	h, err := inner.header()
	if err != nil || h.URL != c.header.URL || h.Account != "" {
		return malformed("the inner message needs jwk and the same url")
	}
	key, thumbprint, err := publicKey(h.Key)
	if err != nil {
		return wrong("badPublicKey", http.StatusBadRequest, "%v", err)
	}
	if err := inner.verify(h.Algorithm, key); err != nil {
		return malformed("the inner message: %v", err)
	}
	payload, _ := inner.payload()
	var asked struct {
		Account string          `json:"account"`
		OldKey  json.RawMessage `json:"oldKey"`
	}
	if err := json.Unmarshal(payload, &asked); err != nil || asked.Account != c.header.Account {
		return malformed("the inner message names another account")
	}
	if _, old, err := publicKey(asked.OldKey); err != nil || old != c.account.thumbprint {
		return malformed("the inner message names another old key")
	}
	for _, other := range a.accounts {
		if other.thumbprint == thumbprint {
			c.w.Header().Set("Location", a.base+"/account/"+other.number)
			return wrong("malformed", http.StatusConflict, "another account has the new key")
		}
	}
	c.account.key, c.account.jwk, c.account.thumbprint = key, h.Key, thumbprint
	a.keepAccounts()
	return a.writeAccount(c, c.account, http.StatusOK)
}

// work does what takes a while, outside of the request that asked for it.
func (a *Authority) work(do func(context.Context, time.Duration)) {
	slow := a.settings.Slow
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), slow+time.Minute)
		defer cancel()
		do(ctx, slow)
	}()
}

// pause waits, as slow authorities do.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// certID is how renewal information names a certificate (RFC 9773, section 4.1).
func certID(keyIdentifier []byte, serial *big.Int) string {
	number := serial.Bytes()
	if len(number) > 0 && number[0]&0x80 != 0 { // as in DER, which is signed
		number = append([]byte{0}, number...)
	}
	return base64.RawURLEncoding.EncodeToString(keyIdentifier) + "." + base64.RawURLEncoding.EncodeToString(number)
}

// renewalInfo is of RFC 9773, section 4.2.
func (a *Authority) renewalInfo(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, c := range a.issued {
		if certID(c.leaf.AuthorityKeyId, c.leaf.SerialNumber) != r.PathValue("id") {
			continue
		}
		life := c.leaf.NotAfter.Sub(c.leaf.NotBefore)
		begin := c.leaf.NotBefore.Add(life * 60 / 100)
		window := map[string]any{"start": begin, "end": begin.Add(life * 6 / 100)}
		info := map[string]any{"suggestedWindow": window}
		if a.settings.Renew || !c.revoked.IsZero() {
			now := a.options.Now()
			window["start"], window["end"] = now.Add(-2*time.Hour), now.Add(-time.Hour)
			info["explanationURL"] = a.base + "/terms"
		}
		w.Header().Set("Retry-After", strconv.Itoa(int(min(6*time.Hour, max(time.Second, life/100)).Seconds())))
		writeJSON(w, http.StatusOK, info)
		return
	}
	writeProblem(w, wrong("malformed", http.StatusNotFound, "no such certificate was issued here"))
}

// keyAuthorization is what a challenge asks for (RFC 8555, section 8.1).
func keyAuthorization(c *challenge, of *account) string { return c.token + "." + of.thumbprint }

// digest of a key authorization, for dns-01 (RFC 8555, section 8.4).
func digest(authorization string) string {
	sum := sha256.Sum256([]byte(authorization))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

func equalKeys(a, b crypto.PublicKey) bool {
	k, is := a.(interface{ Equal(crypto.PublicKey) bool })
	return is && k.Equal(b)
}
