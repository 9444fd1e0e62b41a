package certs_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	wire "golang.org/x/crypto/acme"

	"victualler/internal/acme"
	"victualler/internal/api"
	"victualler/internal/resolve"
	"victualler/internal/service/certs"
	"victualler/internal/service/rollout"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/db"
)

// authority issues whatever is proved to it, which is everything it is told of, and remembers what
// it was asked.
type authority struct {
	mu     sync.Mutex
	root   *x509.Certificate
	key    *ecdsa.PrivateKey
	orders map[string]*acme.Order
	proofs map[string]*acme.Proof
	issued map[string]*x509.Certificate
	calls  []string
	// before is called with the name of each call; an error is its answer.
	before func(call string) error
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Test root"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	root, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &authority{root: root, key: key, orders: map[string]*acme.Order{}, proofs: map[string]*acme.Proof{},
		issued: map[string]*x509.Certificate{}, before: func(string) error { return nil }}
}

// asked remembers a call, and says what goes wrong with it.
func (a *authority) asked(call string) error {
	a.mu.Lock()
	a.calls = append(a.calls, call)
	before := a.before
	a.mu.Unlock()
	return before(call)
}

// count is how often a call was made.
func (a *authority) count(call string) (n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, c := range a.calls {
		if c == call {
			n++
		}
	}
	return n
}

// fails has one call go wrong so many times.
func (a *authority) fails(call string, times int, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.before = func(c string) error {
		a.mu.Lock()
		defer a.mu.Unlock()
		if c != call || times == 0 {
			return nil
		}
		times--
		return err
	}
}

func (a *authority) Order(_ context.Context, names []string, _ string, _ *x509.Certificate) (acme.Order, error) {
	if err := a.asked("Order"); err != nil {
		return acme.Order{}, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	o := &acme.Order{URL: fmt.Sprintf("order-%d", len(a.orders)), Status: "pending"}
	for _, n := range names {
		at := o.URL + "-" + n
		a.proofs[at] = &acme.Proof{Name: n, Status: "pending",
			Challenges: []acme.Challenge{{URL: at, Kind: "http-01", Status: "pending", Token: at, Value: "v"}}}
		o.Proofs = append(o.Proofs, at)
	}
	a.orders[o.URL] = o
	return *o, nil
}

func (a *authority) OrderAt(_ context.Context, at string) (acme.Order, error) {
	if err := a.asked("OrderAt"); err != nil {
		return acme.Order{}, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	o := a.orders[at]
	if o.Status == "pending" && !slices.ContainsFunc(o.Proofs, func(p string) bool {
		return a.proofs[p].Status != "valid"
	}) {
		o.Status = "ready"
	}
	return *o, nil
}

func (a *authority) ProofAt(_ context.Context, at string) (acme.Proof, error) {
	if err := a.asked("ProofAt"); err != nil {
		return acme.Proof{}, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return *a.proofs[at], nil
}

func (a *authority) Accept(_ context.Context, c acme.Challenge) error {
	if err := a.asked("Accept"); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.proofs[c.URL].Status = "valid"
	return nil
}

func (a *authority) Finalize(_ context.Context, o acme.Order, request []byte) (time.Duration, error) {
	if err := a.asked("Finalize"); err != nil {
		return 0, err
	}
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return 0, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	template := &x509.Certificate{SerialNumber: big.NewInt(int64(100 + len(a.issued))), DNSNames: r.DNSNames,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 0, 90),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, a.root, r.PublicKey, a.key)
	if err != nil {
		return 0, err
	}
	a.issued[o.URL], err = x509.ParseCertificate(der)
	a.orders[o.URL].Status = "valid"
	return 0, err
}

func (a *authority) Download(_ context.Context, o acme.Order) ([]*x509.Certificate, error) {
	if err := a.asked("Download"); err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return []*x509.Certificate{a.issued[o.URL]}, nil
}

func (a *authority) Register(context.Context, string, *acme.External) (string, error) {
	return "account-anew", a.asked("Register")
}

func (a *authority) Close() {}

// ordering is a bench with an order on record, and the authority it is for.
type ordering struct {
	*servicetest.Bench
	authority *authority
	account   api.AccountDetail
	domain    int64
	order     int64
}

func newOrdering(t *testing.T, ways string) *ordering {
	t.Helper()
	b, _, account := lantern(t)
	o := &ordering{Bench: b, authority: newAuthority(t), account: account}
	b.Base.Resolver = resolve.New("127.0.0.1:1") // where nobody answers
	b.Certs.ConnectTo(o.authority)
	_, err := b.Store.AddAuthority(t.Context(), db.AddAuthorityParams{Name: "trial", Directory: "https://x/",
		Key: []byte{1}, Url: "account", Usual: true, Identities: []string{}, Bounds: []byte("[]")})
	require.NoError(t, err)
	rows, err := b.Store.DomainsOfAccount(t.Context(), account.ID)
	require.NoError(t, err)
	o.domain = rows[0].ID
	o.order, err = b.Certs.PlaceOrder(t.Context(), o.domain, ways)
	require.NoError(t, err)
	return o
}

// works has the order go on, and servers do what that needs of them, until it waits or has ended.
func (o *ordering) works(ctx context.Context, b *servicetest.Bench) (time.Duration, error) {
	type answer struct {
		again time.Duration
		err   error
	}
	done := make(chan answer)
	listening, stop := context.WithCancel(ctx)
	defer stop()
	go b.Rollout.Run(listening)
	go func() {
		again, err := b.Certs.Order(ctx, o.order)
		done <- answer{again, err}
	}()
	for {
		select {
		case a := <-done:
			b.Work()
			return a.again, a.err
		case <-time.After(10 * time.Millisecond):
			b.Work()
			_ = b.Rollout.Apply(ctx, o.account.ID) // what was queued may not have been committed then
		}
	}
}

// operation is the one that people see of the order.
func (o *ordering) operation(t *testing.T) api.Operation {
	t.Helper()
	page, err := o.Rollout.Operations(t.Context(), o.Operator, rollout.OperationFilter{Account: "lantern.example"}, 0,
		10)
	require.NoError(t, err)
	require.Len(t, page.Operations, 2, "the opening of the account, and the order, and no part of it")
	require.Equal(t, "certificate.order", page.Operations[0].Kind)
	return page.Operations[0]
}

func (o *ordering) certificate(t *testing.T) api.SiteCertificate {
	t.Helper()
	c, err := o.Certs.Certificate(t.Context(), o.Operator, "lantern.example", "lantern.example")
	require.NoError(t, err)
	return c
}

// problem is an authority's answer of a kind, such as "rateLimited".
func problem(status int, kind string) error {
	return &wire.Error{StatusCode: status, ProblemType: "urn:ietf:params:acme:error:" + kind,
		Detail: "the test says so",
		Header: http.Header{"Retry-After": {"7200"}}}
}

func TestOrder(t *testing.T) {
	o := newOrdering(t, "{}")
	again, err := o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Zero(t, again)
	op := o.operation(t)
	assert.Equal(t, "done", op.State)
	var steps []string
	for _, s := range op.Steps {
		steps = append(steps, s.Name+" "+s.State)
	}
	assert.Equal(t, []string{"order done", "prove done", "issue done", "install done"}, steps)
	c := o.certificate(t)
	assert.Equal(t, "valid", c.State)
	assert.Equal(t, []string{"lantern.example", "www.lantern.example"}, c.Covered)
	require.NotNil(t, c.NextTry)
	assert.Equal(t, c.RenewAt.Unix(), c.NextTry.Unix(), "it is looked at again when it is renewed")
	m, _ := o.Agents.On(1).InForce(o.account.ID)
	require.NotNil(t, m.Sites[0].Certificate)
	assert.Contains(t, m.Sites[0].Certificate.Chain, "BEGIN CERTIFICATE")

	before := len(o.authority.calls)
	again, err = o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Zero(t, again)
	assert.Len(t, o.authority.calls, before, "an order that has ended asks nobody")
}

// Wherever the process is killed that is at an order, another one brings it to its end, and nothing
// is ordered twice.
func TestOrderGoesOnAfterAKill(t *testing.T) {
	for _, call := range []string{"Order", "OrderAt", "ProofAt", "Accept", "Finalize", "Download"} {
		t.Run(call, func(t *testing.T) {
			o := newOrdering(t, "{}")
			ctx, kill := context.WithCancel(t.Context())
			o.authority.mu.Lock()
			o.authority.before = func(c string) error {
				if c == call {
					kill()
					return &url.Error{Op: "post", URL: "x", Err: context.Canceled}
				}
				return nil
			}
			o.authority.mu.Unlock()
			_, err := o.works(ctx, o.Bench)
			require.ErrorIs(t, err, context.Canceled)
			assert.Equal(t, "running", o.operation(t).State)

			other := servicetest.Process(t, o.URL)
			other.Base.Resolver = resolve.New("127.0.0.1:1")
			other.Certs.ConnectTo(o.authority)
			o.authority.fails("", 0, nil)
			other.Pass(time.Minute) // nobody has been heard of for a while
			require.NoError(t, other.Certs.OrderCertificates(t.Context()))
			queued := other.Queue.Drain()
			require.Len(t, queued, 1)
			assert.Equal(t, servicetest.Job{Kind: "Order", ID: o.order}, queued[0])
			_, err = o.works(t.Context(), other)
			require.NoError(t, err)
			assert.Equal(t, "done", o.operation(t).State)
			assert.Equal(t, "valid", o.certificate(t).State)
			assert.LessOrEqual(t, len(o.authority.orders), 1)
			assert.LessOrEqual(t, len(o.authority.issued), 1)
			var steps []string
			for _, s := range o.operation(t).Steps {
				steps = append(steps, s.Name)
			}
			assert.Equal(t, []string{"order", "prove", "issue", "install"}, steps)
		})
	}
}

func TestOrderThatFails(t *testing.T) {
	t.Run("a name that the authority cannot prove", func(t *testing.T) {
		o := newOrdering(t, "{}")
		o.authority.before = func(call string) error {
			if call == "Accept" {
				o.authority.mu.Lock()
				defer o.authority.mu.Unlock()
				at := "order-0-www.lantern.example"
				o.authority.proofs[at].Status = "invalid"
				o.authority.proofs[at].Failure = problem(403, "connection")
				o.authority.orders["order-0"].Status = "invalid"
			}
			return nil
		}
		_, err := o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		op := o.operation(t)
		assert.Equal(t, "failed", op.State)
		assert.Contains(t, op.Failure, "trial could not prove www.lantern.example: the test says so")
		for _, s := range op.Steps {
			assert.NotEqual(t, "running", s.State, s.Name)
		}
		c := o.certificate(t)
		assert.Equal(t, "failing", c.State)
		assert.Equal(t, 1, c.Failures)
		require.NotNil(t, c.NextTry)
		assert.WithinDuration(t, time.Now().Add(11*time.Minute), *c.NextTry, 2*time.Minute)
		refused, err := o.Store.RefusedNames(t.Context(), o.domain)
		require.NoError(t, err)
		assert.Equal(t, []string{"www.lantern.example"}, refused)
	})
	t.Run("an authority that has been asked too often", func(t *testing.T) {
		o := newOrdering(t, "{}")
		o.authority.fails("Order", 1, problem(429, "rateLimited"))
		_, err := o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		assert.Equal(t, "failed", o.operation(t).State)
		c := o.certificate(t)
		assert.Equal(t, "rateLimited", c.Code)
		assert.WithinDuration(t, time.Now().Add(2*time.Hour), *c.NextTry, time.Minute, "taken at its word")
		row, err := o.Store.FindAuthority(t.Context(), "trial")
		require.NoError(t, err)
		require.NotNil(t, row.LimitedUntil)
		assert.WithinDuration(t, time.Now().Add(10*time.Minute), *row.LimitedUntil, time.Minute,
			"other sites wait for minutes only")
	})
	t.Run("an authority in trouble is asked again, and not for ever", func(t *testing.T) {
		o := newOrdering(t, "{}")
		o.authority.fails("OrderAt", -1, problem(503, "serverInternal"))
		again, err := o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		assert.Equal(t, 5*time.Second, again)
		assert.Contains(t, o.operation(t).Note, "trying again")
		o.Pass(rollout.GiveUpAfter + time.Second)
		again, err = o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		assert.Zero(t, again)
		assert.Contains(t, o.operation(t).Failure, "the test says so")
	})
	t.Run("a server that does not answer, and that refuses", func(t *testing.T) {
		o := newOrdering(t, "{}")
		o.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
		again, err := o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		assert.Equal(t, 5*time.Second, again)
		assert.Zero(t, o.authority.count("Accept"), "nobody is told of what is not there to be seen")
		o.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable, a.Refuses = false, "nginx says no" })
		_, err = o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		op := o.operation(t)
		assert.Equal(t, "failed", op.State)
		assert.Contains(t, op.Failure, "nginx says no")
		assert.Equal(t, "install", o.certificate(t).Code)
	})
	t.Run("an error that is nobody's ends nothing", func(t *testing.T) {
		o := newOrdering(t, "{}")
		o.authority.fails("Download", 1, errors.New("the database is gone"))
		_, err := o.works(t.Context(), o.Bench)
		require.EqualError(t, err, "the database is gone")
		assert.Equal(t, "running", o.operation(t).State)
		_, err = o.works(t.Context(), o.Bench)
		require.NoError(t, err)
		assert.Equal(t, "done", o.operation(t).State)
		assert.Equal(t, 1, o.authority.count("Order"))
		assert.Equal(t, 1, o.authority.count("Finalize"))
	})
}

func TestOrderStartsOverWhereOurAccountIsForgotten(t *testing.T) {
	o := newOrdering(t, "{}")
	o.authority.fails("OrderAt", 1, problem(400, "accountDoesNotExist"))
	again, err := o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Equal(t, time.Second, again)
	row, err := o.Store.FindAuthority(t.Context(), "trial")
	require.NoError(t, err)
	assert.Equal(t, "account-anew", row.Url)
	_, err = o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Equal(t, "done", o.operation(t).State)
	assert.Equal(t, 2, o.authority.count("Order"))
	assert.Equal(t, 1, o.authority.count("Register"))
}

func TestCancelledOrder(t *testing.T) {
	o := newOrdering(t, "{}")
	o.authority.before = func(call string) error {
		if call == "Accept" && o.authority.count(call) == 1 { // meanwhile a person cancels it
			return o.Certs.CancelOrder(t.Context(), o.Operator, "lantern.example", "lantern.example")
		}
		return nil
	}
	again, err := o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Zero(t, again)
	op := o.operation(t)
	assert.Equal(t, "cancelled", op.State)
	assert.Equal(t, "cancelled by operator", op.Failure)
	for _, step := range op.Steps {
		assert.NotEqual(t, "running", step.State, step.Name)
	}
	assert.Zero(t, o.authority.count("Finalize"), "what was cancelled is not issued")
	assert.Equal(t, "self-signed", o.certificate(t).State, "and is no failure")
}

// Whoever chooses other names while an order is on its way gets another at once.
func TestNamesChosenMeanwhile(t *testing.T) {
	o := newOrdering(t, "{}")
	_, err := o.Store.ChangeSiteCertificate(t.Context(), db.ChangeSiteCertificateParams{DomainID: o.domain,
		Mode: "automatic", Names: []string{"lantern.example", "*.lantern.example"}, KeyType: "ecdsa-p256",
		DueAt: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	_, err = o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	row, err := o.Store.SiteCertificate(t.Context(), o.domain)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), *row.DueAt, time.Minute)
}

func TestOrderByHand(t *testing.T) {
	o := newOrdering(t, `{"lantern.example": "hand", "www.lantern.example": "hand"}`)
	o.authority.before = func(call string) error {
		if call == "ProofAt" {
			o.authority.mu.Lock()
			defer o.authority.mu.Unlock()
			for _, p := range o.authority.proofs {
				p.Challenges[0].Kind = "dns-01"
			}
		}
		return nil
	}
	again, err := o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	assert.Equal(t, 5*time.Second, again)
	assert.Contains(t, o.operation(t).Note, "_acme-challenge.lantern.example TXT")
	assert.Zero(t, o.authority.count("Accept"))
	o.Pass(7*24*time.Hour + time.Minute)
	_, err = o.works(t.Context(), o.Bench)
	require.NoError(t, err)
	op := o.operation(t)
	assert.Equal(t, "failed", op.State)
	assert.Contains(t, op.Failure, "was not entered within 7 days")
}

var _ certs.AuthorityClient = (*authority)(nil)
