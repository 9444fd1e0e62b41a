package agentlink

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/manifest"
)

func authority(t *testing.T) *Authority {
	t.Helper()
	a, err := NewAuthority(time.Now())
	require.NoError(t, err)
	return a
}

func TestJoinSecret(t *testing.T) {
	s := NewJoinSecret(authority(t).Certificate)
	back, err := ParseJoinSecret(" " + s.String() + "\n")
	require.NoError(t, err)
	assert.Equal(t, s, back)
	assert.Regexp(t, `^join-[a-z2-7]{32}-[a-z2-7]{32}$`, s.String())
	for _, wrong := range []string{"", "join", "join--", s.String()[:40], s.String() + "x", strings.ToUpper(s.String()),
		strings.Replace(s.String(), "join", "jion", 1)} {
		_, err := ParseJoinSecret(wrong)
		assert.ErrorContains(t, err, "copy it whole", wrong)
	}
}

func TestAuthorityIsKept(t *testing.T) {
	a := authority(t)
	certificate, key, err := a.Bytes()
	require.NoError(t, err)
	again, err := OpenAuthority(certificate, key)
	require.NoError(t, err)
	assert.Equal(t, a.Certificate.Raw, again.Certificate.Raw)
	_, err = OpenAuthority(certificate, []byte("no key"))
	assert.Error(t, err)
}

// listen serves TLS on loopback and returns the address.
func listen(t *testing.T, config *tls.Config, handler http.Handler) string {
	t.Helper()
	s := httptest.NewUnstartedServer(handler)
	s.TLS = config
	s.Config.ErrorLog = nil
	s.StartTLS()
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// enrolled joins an agent and returns its identity.
func enrolled(t *testing.T, a *Authority, serverID int64) Identity {
	t.Helper()
	secret := NewJoinSecret(a.Certificate)
	e, err := NewEnrollee(secret)
	require.NoError(t, err)
	config, err := e.ServerTLS()
	require.NoError(t, err)
	require.NoError(t, a.Enrol(context.Background(), listen(t, config, e), secret, serverID, time.Now()))
	return <-e.Joined()
}

func TestEnrolment(t *testing.T) {
	ctx := context.Background()
	a := authority(t)
	secret := NewJoinSecret(a.Certificate)
	e, err := NewEnrollee(secret)
	require.NoError(t, err)
	config, err := e.ServerTLS()
	require.NoError(t, err)
	address := listen(t, config, e)

	assert.Error(t, authority(t).Enrol(ctx, address, secret, 7, time.Now()), "another installation is not let in")
	assert.ErrorIs(t, a.Enrol(ctx, address, NewJoinSecret(a.Certificate), 7, time.Now()), ErrWrongSecret)
	plain := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	_, err = plain.Get("https://" + address + enrolPath)
	assert.Error(t, err, "nobody without a certificate is let in")

	require.NoError(t, a.Enrol(ctx, address, secret, 7, time.Now()))
	identity := <-e.Joined()
	assert.Equal(t, AgentName(7), identity.Certificate.Leaf.Subject.CommonName)
	text, err := identity.Encode()
	require.NoError(t, err)
	back, err := DecodeIdentity(text)
	require.NoError(t, err)
	assert.Equal(t, identity.Certificate.Certificate, back.Certificate.Certificate)
	assert.Equal(t, identity.Authority.Raw, back.Authority.Raw)
	for _, broken := range []string{"", string(text[:200]),
		strings.Replace(string(text), "CERTIFICATE", "CERTIFICAT", 4)} {
		_, err := DecodeIdentity([]byte(broken))
		assert.Error(t, err)
	}
}

// Somebody in between can pass every byte on and still not be taken for the
// agent: the proof is bound to the agent's own connection.
func TestEnrolmentThroughSomebodyElse(t *testing.T) {
	a := authority(t)
	secret := NewJoinSecret(a.Certificate)
	// The one in between has got hold of a service certificate and asks the agent for its proof.
	e, err := NewEnrollee(secret)
	require.NoError(t, err)
	config, err := e.ServerTLS()
	require.NoError(t, err)
	agent := listen(t, config, e)
	service, err := a.serviceCertificate(time.Now())
	require.NoError(t, err)
	inner := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{Certificates: []tls.Certificate{
		*service}, InsecureSkipVerify: true}}}
	own, err := NewEnrollee(secret)
	require.NoError(t, err)
	ownConfig, err := own.ServerTLS()
	require.NoError(t, err)
	between := listen(t, ownConfig, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		response, err := inner.Get("https://" + agent + enrolPath)
		require.NoError(t, err)
		defer response.Body.Close()
		io.Copy(w, response.Body)
	}))
	assert.ErrorIs(t, a.Enrol(context.Background(), between, secret, 7, time.Now()), ErrWrongSecret)
}

func TestMutualTLS(t *testing.T) {
	ctx := context.Background()
	a := authority(t)
	identity := enrolled(t, a, 7)
	answers := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		json.NewEncoder(w).Encode(Status{HostName: "skua"})
	})
	address := listen(t, identity.ServerTLS(func() *tls.Certificate { return &identity.Certificate }), answers)

	status, err := NewDialer(a, time.Now).Agent(7, address).Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, "skua", status.HostName)
	_, err = NewDialer(a, time.Now).Agent(8, address).Status(ctx)
	assert.ErrorIs(t, err, ErrUnreachable, "the agent of another server")
	_, err = NewDialer(authority(t), time.Now).Agent(7, address).Status(ctx)
	assert.ErrorIs(t, err, ErrUnreachable, "another installation")

	// An agent's own certificate does not let it command others.
	stolen := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{Certificates: []tls.Certificate{
		identity.Certificate}, InsecureSkipVerify: true}}}
	_, err = stolen.Post("https://"+address+"/v1/status", "application/json", strings.NewReader("{}"))
	assert.Error(t, err)

	// A service whose clock is half a day behind or ahead is understood.
	for _, off := range []time.Duration{-12 * time.Hour, 12 * time.Hour} {
		_, err = NewDialer(a, func() time.Time { return time.Now().Add(off) }).Agent(7, address).Status(ctx)
		assert.NoError(t, err, off)
	}
}

func TestServiceCertificateIsRenewed(t *testing.T) {
	now := time.Now()
	d := NewDialer(authority(t), func() time.Time { return now })
	first, err := d.identity()
	require.NoError(t, err)
	again, err := d.identity()
	require.NoError(t, err)
	assert.Same(t, first, again)
	now = now.Add(serviceLife)
	later, err := d.identity()
	require.NoError(t, err)
	assert.NotSame(t, first, later)
}

func TestRenewal(t *testing.T) {
	a := authority(t)
	old := enrolled(t, a, 7)
	r, err := NewRenewal()
	require.NoError(t, err)
	signed := func(by *Authority, request []byte, server int64) []byte {
		der, err := by.SignAgent(request, server, time.Now())
		require.NoError(t, err)
		return der
	}
	renewed, err := r.Finish(old, signed(a, r.Request, 7))
	require.NoError(t, err)
	assert.NotEqual(t, old.Certificate.Certificate, renewed.Certificate.Certificate)
	_, err = r.Finish(old, signed(a, r.Request, 8))
	assert.ErrorContains(t, err, "another server")
	_, err = r.Finish(old, signed(authority(t), r.Request, 7))
	assert.Error(t, err)
	other, err := NewRenewal()
	require.NoError(t, err)
	_, err = r.Finish(old, signed(a, other.Request, 7))
	assert.ErrorContains(t, err, "another key")
	_, err = a.SignAgent([]byte("no request"), 7, time.Now())
	assert.Error(t, err)
}

// apply starts an agent that answers an apply in its own way, and returns a client for it.
func applying(t *testing.T, answer http.HandlerFunc) *Client {
	t.Helper()
	a := authority(t)
	identity := enrolled(t, a, 7)
	address := listen(t, identity.ServerTLS(func() *tls.Certificate { return &identity.Certificate }), answer)
	return NewDialer(a, time.Now).Agent(7, address)
}

func TestApplyAnswers(t *testing.T) {
	ctx := context.Background()
	none := func(Step) {}
	t.Run("steps and receipt", func(t *testing.T) {
		c := applying(t, func(w http.ResponseWriter, _ *http.Request) {
			encoder := json.NewEncoder(w)
			encoder.Encode(Progress{Step: &Step{Name: "user", State: StepDone}})
			encoder.Encode(Progress{})
			encoder.Encode(Progress{Receipt: &Receipt{Revision: 3}})
		})
		var steps []string
		r, err := c.Apply(ctx, manifest.Manifest{}, func(s Step) { steps = append(steps, s.Name) })
		require.NoError(t, err)
		assert.Equal(t, int64(3), r.Revision)
		assert.Equal(t, []string{"user"}, steps)
	})
	t.Run("ends before the receipt", func(t *testing.T) {
		c := applying(t, func(w http.ResponseWriter, _ *http.Request) {
			json.NewEncoder(w).Encode(Progress{Step: &Step{Name: "user"}})
		})
		_, err := c.Apply(ctx, manifest.Manifest{}, none)
		assert.ErrorIs(t, err, ErrUnreachable)
	})
	t.Run("nonsense", func(t *testing.T) {
		c := applying(t, func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<html>\n") })
		_, err := c.Apply(ctx, manifest.Manifest{}, none)
		assert.ErrorIs(t, err, ErrUnreachable)
	})
	t.Run("refused", func(t *testing.T) {
		c := applying(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "the manifest is wrong", 400) })
		_, err := c.Apply(ctx, manifest.Manifest{}, none)
		assert.ErrorContains(t, err, "the agent refuses: the manifest is wrong")
		assert.NotErrorIs(t, err, ErrUnreachable)
	})
	t.Run("silence", func(t *testing.T) {
		if testing.Short() {
			t.Skip("7 s of silence: make test")
		}
		over := make(chan struct{})
		c := applying(t, func(w http.ResponseWriter, r *http.Request) {
			http.NewResponseController(w).Flush()
			<-over
		})
		begun := time.Now()
		_, err := c.Apply(ctx, manifest.Manifest{}, none)
		close(over)
		assert.ErrorIs(t, err, ErrUnreachable)
		assert.ErrorContains(t, err, "no sign of life")
		assert.Less(t, time.Since(begun), longestSilence+5*time.Second)
	})
	t.Run("nobody there", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		l.Close()
		_, err = NewDialer(authority(t), time.Now).Agent(7, l.Addr().String()).Status(ctx)
		assert.ErrorIs(t, err, ErrUnreachable)
	})
}
