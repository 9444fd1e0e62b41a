package agentlink

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"victualler/internal/manifest"
)

// Dialer makes clients for agents and keeps their connections.
type Dialer struct {
	authority *Authority
	now       func() time.Time

	mu          sync.Mutex
	certificate *tls.Certificate
	clients     map[string]*Client
}

// NewDialer returns a dialer for the agents of an installation.
func NewDialer(a *Authority, now func() time.Time) *Dialer {
	return &Dialer{authority: a, now: now, clients: map[string]*Client{}}
}

// Agent returns the client for the agent of a server at an address (host and port).
func (d *Dialer) Agent(serverID int64, address string) *Client {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := fmt.Sprint(serverID, " ", address)
	if c, known := d.clients[key]; known {
		return c
	}
	transport := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 2 * time.Second, KeepAlive: 5 * time.Second}).DialContext,
		TLSHandshakeTimeout: 3 * time.Second, IdleConnTimeout: time.Minute,
		// One connection for hundreds of applies at the same time: each of its own would cost an
		// agent 50 KB. A connection that the network has lost is noticed by its pings.
		// Frames are large where much is sent: each is passed from one goroutine to another.
		ForceAttemptHTTP2: true, HTTP2: &http.HTTP2Config{SendPingTimeout: 5 * time.Second,
			PingTimeout: 3 * time.Second, MaxReadFrameSize: 256 << 10},
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: d.authority.pool(),
			ServerName:           AgentName(serverID),
			GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return d.identity() }},
	}
	c := &Client{address: address, http: &http.Client{Transport: transport}}
	d.clients[key] = c
	return c
}

// identity returns the service's certificate, a new one when half of its life is over.
func (d *Dialer) identity() (*tls.Certificate, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := d.now()
	if d.certificate == nil || d.certificate.Leaf.NotAfter.Sub(now) < serviceLife/2 {
		c, err := d.authority.serviceCertificate(now)
		if err != nil {
			return nil, err
		}
		d.certificate = c
	}
	return d.certificate, nil
}

// Client calls one agent.
type Client struct {
	address string
	http    *http.Client
}

// While an apply goes on, the agent sends a sign of life this often; a silence of
// longestSilence means that it, or the network to it, is gone.
const (
	SignOfLife     = 2 * time.Second
	longestSilence = 7 * time.Second
)

var errSilent = errors.New("no sign of life")

// refusedByAgent is what an agent says of a request that it has refused.
type refusedByAgent struct{ message string }

// Error implements error.
func (r *refusedByAgent) Error() string { return "the agent refuses: " + r.message }

// Said is what an agent has said of a request that it has refused, or the error's own text.
func Said(err error) string {
	if r := (*refusedByAgent)(nil); errors.As(err, &r) {
		return r.message
	}
	return err.Error()
}

// ErrUnreachable wraps every failure to get an answer from an agent.
var ErrUnreachable = errors.New("the agent does not answer")

// Status asks how the server is.
func (c *Client) Status(ctx context.Context) (Status, error) {
	var s Status
	return s, c.call(ctx, "/v1/status", nil, &s)
}

// Preview asks what applying m would do.
func (c *Client) Preview(ctx context.Context, m manifest.Manifest) (Preview, error) {
	var p Preview
	return p, c.call(ctx, "/v1/preview", m, &p)
}

// Sweep asks about the accounts on the server.
func (c *Client) Sweep(ctx context.Context) (Sweep, error) {
	var s Sweep
	return s, c.call(ctx, "/v1/sweep", nil, &s)
}

// ApplyServer has the server hold what m says for all accounts together.
func (c *Client) ApplyServer(ctx context.Context, m manifest.Server) error {
	return c.call(ctx, "/v1/server", m, &struct{}{})
}

// Clear removes files that belong to no account and puts shared ones right.
func (c *Client) Clear(ctx context.Context) (Cleared, error) {
	var cleared Cleared
	return cleared, c.call(ctx, "/v1/clear", nil, &cleared)
}

// Challenge has the web server answer challenges, and no longer answer
// others. When it returns, it does.
func (c *Client) Challenge(ctx context.Context, asked Challenges) error {
	return c.call(ctx, "/v1/challenges", asked, &struct{}{})
}

// MailLog asks what is new of messages.
func (c *Client) MailLog(ctx context.Context, asked MailLogRequest) (MailLogPage, error) {
	var p MailLogPage
	return p, c.call(ctx, "/v1/mail-log", asked, &p)
}

// Queue asks which messages wait.
func (c *Client) Queue(ctx context.Context) (Queue, error) {
	var q Queue
	return q, c.call(ctx, "/v1/queue", nil, &q)
}

// ChangeQueue has something done with messages that wait.
func (c *Client) ChangeQueue(ctx context.Context, change QueueChange) error {
	return c.call(ctx, "/v1/queue/change", change, &struct{}{})
}

// ReleaseSending has an account send again that was stopped.
func (c *Client) ReleaseSending(ctx context.Context, account int64) error {
	return c.call(ctx, "/v1/release-sending", MailStop{Account: account}, &struct{}{})
}

// ListPosts asks which messages to a list wait for an owner, or has something done with one.
func (c *Client) ListPosts(ctx context.Context, asked ListPosts) (HeldPosts, error) {
	var told HeldPosts
	return told, c.call(ctx, "/v1/list-posts", asked, &told)
}

// SiteLog asks for a part of a site's access log.
func (c *Client) SiteLog(ctx context.Context, asked LogRequest) (LogPage, error) {
	var p LogPage
	return p, c.call(ctx, "/v1/log", asked, &p)
}

// AskDatabase asks something about a database.
func (c *Client) AskDatabase(ctx context.Context, q DatabaseQuestion) (DatabaseAnswer, error) {
	var told DatabaseAnswer
	return told, c.call(ctx, "/v1/database", q, &told)
}

// FailureTrailer says why what was sent is not whole, escaped as in a query.
const FailureTrailer = "Failure"

// ExportDatabase opens the contents of a database. The error at the end of reading is io.EOF only
// if all of them were there.
func (c *Client) ExportDatabase(ctx context.Context, asked DatabaseExport) (io.ReadCloser, error) {
	return c.open(ctx, "/v1/database/export", asked)
}

// open asks for what is sent as a stream, with [FailureTrailer] behind it.
func (c *Client) open(ctx context.Context, path string, asked any) (io.ReadCloser, error) {
	response, err := c.send(ctx, path, asked)
	if err != nil {
		return nil, err
	}
	return &wholeBody{response}, nil
}

// wholeBody is an answer's body with the error of its trailer.
type wholeBody struct{ response *http.Response }

// Read implements io.Reader.
func (b *wholeBody) Read(p []byte) (int, error) {
	n, err := b.response.Body.Read(p)
	if text := b.response.Trailer.Get(FailureTrailer); errors.Is(err, io.EOF) && text != "" {
		if why, wrong := url.QueryUnescape(text); wrong == nil {
			text = why
		}
		return n, &refusedByAgent{text}
	}
	return n, err
}

// Close implements io.Closer.
func (b *wholeBody) Close() error { return b.response.Body.Close() }

// NewImport prepares an import.
func (c *Client) NewImport(ctx context.Context, asked NewImport) (ImportAnswer, error) {
	var told ImportAnswer
	return told, c.call(ctx, "/v1/database/imports/new", asked, &told)
}

// SaveDatabase has the contents of a database kept as an import into it that waits to be started.
func (c *Client) SaveDatabase(ctx context.Context, v DatabaseVisit) (ImportAnswer, error) {
	var told ImportAnswer
	return told, c.call(ctx, "/v1/database/imports/save", v, &told)
}

// ContinueImport sends what comes behind the first bytes of a file; it may be sent in parts.
func (c *Client) ContinueImport(ctx context.Context, account int64, id string, offset int64,
	file io.Reader) (ImportAnswer, error) {
	var told ImportAnswer
	response, err := c.post(ctx, fmt.Sprintf("/v1/database/imports/file?account=%d&id=%s&offset=%d", account,
		url.QueryEscape(id), offset), file)
	if err != nil {
		return told, err
	}
	return told, decode(response, &told)
}

// Imports asks for those into the databases of an account.
func (c *Client) Imports(ctx context.Context, asked ImportsOf) (ImportList, error) {
	var told ImportList
	return told, c.call(ctx, "/v1/database/imports", asked, &told)
}

// OrderImport has something done with an import.
func (c *Client) OrderImport(ctx context.Context, order ImportOrder) (ImportAnswer, error) {
	var told ImportAnswer
	return told, c.call(ctx, "/v1/database/imports/order", order, &told)
}

// Apply has m applied, tells each step as it happens, and returns the receipt.
// A receipt with a failure is no error of the call.
func (c *Client) Apply(ctx context.Context, m manifest.Manifest, tell func(Step)) (Receipt, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(longestSilence, func() { cancel(errSilent) })
	defer silence.Stop()
	response, err := c.send(ctx, "/v1/apply", m)
	if err != nil {
		return Receipt{}, err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		silence.Reset(longestSilence)
		var p Progress
		if err := json.Unmarshal(lines.Bytes(), &p); err != nil {
			return Receipt{}, fmt.Errorf("%w in a way that can be read: %w", ErrUnreachable, err)
		}
		if p.Receipt != nil {
			return *p.Receipt, nil
		}
		if p.Step != nil {
			tell(*p.Step)
		}
	}
	return Receipt{}, fmt.Errorf("%w to the end: %w", ErrUnreachable,
		errors.Join(context.Cause(ctx), lines.Err(), io.ErrUnexpectedEOF))
}

func (c *Client) call(ctx context.Context, path string, body, answer any) error {
	response, err := c.send(ctx, path, body)
	if err != nil {
		return err
	}
	return decode(response, answer)
}

// decode reads an answer.
func decode(response *http.Response, answer any) error {
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(answer); err != nil {
		return fmt.Errorf("%w in a way that can be read: %w", ErrUnreachable, err)
	}
	return nil
}

// send posts body as JSON.
func (c *Client) send(ctx context.Context, path string, body any) (*http.Response, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return c.post(ctx, path, bytes.NewReader(text))
}

// post posts body; an answer that is not a success is an error.
func (c *Client) post(ctx context.Context, path string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+c.address+path, body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := c.http.Do(request)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if response.StatusCode != http.StatusOK {
		defer response.Body.Close()
		message, _ := io.ReadAll(io.LimitReader(response.Body, 4<<10))
		if response.StatusCode == http.StatusServiceUnavailable {
			return nil, fmt.Errorf("%w: %s", ErrUnreachable, bytes.TrimSpace(message))
		}
		return nil, &refusedByAgent{string(bytes.TrimSpace(message))}
	}
	return response, nil
}
