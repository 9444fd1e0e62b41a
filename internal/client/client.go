// Package client calls the HTTP API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"victualler/internal/api"
	"victualler/internal/version"
)

// Client calls one service.
type Client struct {
	// Base is the service's address, such as http://127.0.0.1:8470.
	Base string
	// Token is the bearer token of a session; empty before signing in.
	Token string
	// HTTP makes the calls; nil is http.DefaultClient.
	HTTP *http.Client
}

// Unreachable says that the service did not answer.
type Unreachable struct {
	Base string
	Err  error
	// Sent says that a request for a change had gone out whole: it may have been done.
	Sent bool
}

// Error implements error.
func (u *Unreachable) Error() string {
	if u.Sent {
		return fmt.Sprintf("%s does not answer any more: %s. What was asked for may have been done: look before you "+
			"try again", u.Base, reason(u.Err))
	}
	return fmt.Sprintf("%s does not answer: %s", u.Base, reason(u.Err))
}

// Unwrap returns the cause.
func (u *Unreachable) Unwrap() error { return u.Err }

// Call is one request.
type Call struct {
	Method string
	// Path is below /api/v1.
	Path  string
	Query url.Values
	// Body is sent as JSON if it is not nil.
	Body any
	// Key is the Idempotency-Key, if any.
	Key string
	// IfMatch is the ETag of what is changed, if any.
	IfMatch string
	// Note is told what the service says beside its answer; nil is nobody.
	Note func(string)

	// content is sent as it is, with its signature where it has one.
	content   []byte
	signature string
	// after is the id of the last event of a stream that is taken up again.
	after string
}

// Do makes a call and decodes the answer into what out points to, if that is not nil. A
// refusal is an *api.Problem, no answer an *[Unreachable].
func (c *Client) Do(ctx context.Context, call Call, out any) error {
	response, err := c.send(ctx, call, "application/json")
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if call.Note != nil {
		for _, note := range notesIn(response.Header.Get("Notes")) {
			call.Note(note)
		}
	}
	if out == nil || response.StatusCode == http.StatusNoContent {
		_, err := io.Copy(io.Discard, response.Body)
		return err
	}
	reflect.ValueOf(out).Elem().SetZero() // what the answer leaves out is not there
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.Base, err)
	}
	return nil
}

// Upload sends a file as it is.
func (c *Client) Upload(ctx context.Context, path string, content []byte) error {
	response, err := c.send(ctx, Call{Method: http.MethodPut, Path: path, content: content}, "application/json")
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// Download reads an answer that is no JSON document and writes it to w.
func (c *Client) Download(ctx context.Context, path string, query url.Values, w io.Writer) error {
	response, err := c.send(ctx, Call{Method: http.MethodGet, Path: path, Query: query}, "*/*")
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}

// Get reads a document.
func (c *Client) Get(ctx context.Context, path string, query url.Values, out any) error {
	return c.Do(ctx, Call{Method: http.MethodGet, Path: path, Query: query}, out)
}

// Post sends a document.
func (c *Client) Post(ctx context.Context, path string, body, out any) error {
	return c.Do(ctx, Call{Method: http.MethodPost, Path: path, Body: body}, out)
}

func (c *Client) send(ctx context.Context, call Call, accept string) (*http.Response, error) {
	var body io.Reader
	if call.Body != nil {
		text, err := json.Marshal(call.Body)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	} else if call.content != nil {
		body = bytes.NewReader(call.content)
	}
	address := strings.TrimSuffix(c.Base, "/") + "/api/v1" + call.Path
	if len(call.Query) > 0 {
		address += "?" + call.Query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, call.Method, address, body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", accept)
	request.Header.Set("User-Agent", "victualler/"+version.Version)
	if call.Body != nil {
		request.Header.Set("Content-Type", "application/json")
	} else if call.content != nil {
		request.Header.Set("Content-Type", "application/octet-stream")
	}
	for name, value := range map[string]string{"Idempotency-Key": call.Key, "If-Match": call.IfMatch,
		"Last-Event-ID": call.after, "Kit-Signature": call.signature} {
		if value != "" {
			request.Header.Set(name, value)
		}
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	var sent atomic.Bool
	request = request.WithContext(httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		WroteRequest: func(w httptrace.WroteRequestInfo) {
			sent.Store(w.Err == nil && call.Method != http.MethodGet)
		}}))
	response, err := h.Do(request)
	if err != nil {
		return nil, &Unreachable{c.Base, err, sent.Load()}
	}
	if response.StatusCode < 400 {
		return response, nil
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return nil, &Unreachable{c.Base, err, sent.Load()}
	}
	problem := &api.Problem{}
	if json.Unmarshal(text, problem) != nil || problem.Status == 0 {
		return nil, fmt.Errorf("%s answers %s; is that a Victualler service?", c.Base, response.Status)
	}
	return nil, problem
}

// SignIn starts a session and keeps its token.
func (c *Client) SignIn(ctx context.Context, in api.SignIn) (api.Session, error) {
	in.Token = true
	return c.begin(ctx, "/session", in)
}

// SignInByLink starts a session with a one-time link and keeps its token.
func (c *Client) SignInByLink(ctx context.Context, in api.LinkSignIn) (api.Session, error) {
	in.Token = true
	return c.begin(ctx, "/session/link", in)
}

func (c *Client) begin(ctx context.Context, path string, body any) (api.Session, error) {
	var session api.Session
	err := c.Post(ctx, path, body, &session)
	if err == nil {
		c.Token = session.Token
	}
	return session, err
}

// CheckLink asks what a one-time link is for, without using it.
func (c *Client) CheckLink(ctx context.Context, link string) (api.LinkPurpose, error) {
	var purpose api.LinkPurpose
	err := c.Post(ctx, "/session/check-link", api.LinkCheck{Link: link}, &purpose)
	return purpose, err
}

// Watch calls tell with an operation each time it changes, until it has
// finished, and returns it. A lost connection is made again.
func (c *Client) Watch(ctx context.Context, id int64, tell func(api.Operation)) (api.Operation, error) {
	var last api.Operation
	failures := 0
	for {
		version := last.Version
		err := c.watchOnce(ctx, id, &last, tell)
		if last.Finished() {
			return last, nil
		}
		var problem *api.Problem
		if errors.As(err, &problem) || ctx.Err() != nil {
			return last, errors.Join(err, ctx.Err())
		}
		if failures++; last.Version > version {
			failures = 0
		}
		if failures > 30 {
			return last, err
		}
		select {
		case <-ctx.Done():
			return last, ctx.Err()
		case <-time.After(time.Duration(min(failures, 5)) * 200 * time.Millisecond):
		}
	}
}

// watchOnce reads server-sent events until the connection ends.
func (c *Client) watchOnce(ctx context.Context, id int64, last *api.Operation, tell func(api.Operation)) error {
	call := Call{Method: http.MethodGet, Path: "/operations/" + strconv.FormatInt(id, 10) + "/progress"}
	if last.Version > 0 {
		call.after = strconv.FormatInt(last.Version, 10)
	}
	response, err := c.send(ctx, call, "text/event-stream")
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		data, found := strings.CutPrefix(lines.Text(), "data: ")
		if !found || data == "{}" {
			continue
		}
		var o api.Operation
		if err := json.Unmarshal([]byte(data), &o); err != nil {
			return err
		}
		*last = o
		tell(o)
		if o.Finished() {
			return nil
		}
	}
	return &Unreachable{Base: c.Base, Err: errors.Join(lines.Err(), io.ErrUnexpectedEOF)}
}

// notesIn reads a list of display strings (RFC 9651, section 4.2.10). What is none ends it.
func notesIn(header string) []string {
	var notes []string
	for {
		rest, found := strings.CutPrefix(strings.TrimLeft(header, ", "), `%"`)
		text, after, ended := strings.Cut(rest, `"`)
		note, err := url.PathUnescape(text)
		if !found || !ended || err != nil {
			return notes
		}
		notes, header = append(notes, note), after
	}
}
