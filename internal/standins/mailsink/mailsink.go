// Package mailsink stands in for a mail server in demo and tests: it takes
// every message (RFC 5321), delivers none, and shows them on a page.
//
// Two local parts provoke faults: “refused” is refused for good, “later” for now.
package mailsink

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"net/netip"
	"net/textproto"
	"slices"
	"strings"
	"sync"
	"time"
)

// Message is one message as it was taken.
type Message struct {
	Number  int       `json:"number"`
	At      time.Time `json:"at"`
	From    string    `json:"from"`
	To      []string  `json:"to"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	Raw     string    `json:"raw"`
}

// kept is how many messages are kept, shown how many of them the page has, and keptBytes how much
// of each; mostBytes bounds what is taken.
const (
	kept      = 20_000
	shown     = 200
	keptBytes = 1 << 20
	mostBytes = 100 << 20
)

// Sink takes messages. Make one with [Listen].
type Sink struct {
	// SMTP and HTTP are the addresses it listens on.
	SMTP, HTTP string

	smtp   []net.Listener
	server *http.Server

	mu       sync.Mutex
	messages []Message
	count    int
}

// Domain is that of an outside mail provider, in demo and tests.
const Domain = "harbourmail.test"

// Zone is what public DNS answers for [Domain] when its mail is taken at an address.
func Zone(at netip.Addr) string {
	return fmt.Sprintf("@ MX 10 mx\n@ TXT \"v=spf1 a:mx.%s -all\"\nmx A %s\n", Domain, at)
}

// Listen takes messages at one address and shows them at another, until [Sink.Close].
func Listen(smtpAddress, httpAddress string) (*Sink, error) {
	s := &Sink{}
	if err := s.Also(smtpAddress); err != nil {
		return nil, err
	}
	page, err := net.Listen("tcp", httpAddress)
	if err != nil {
		s.smtp[0].Close()
		return nil, err
	}
	s.SMTP, s.HTTP = s.smtp[0].Addr().String(), page.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", s.show)
	mux.HandleFunc("GET /messages", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(s.Messages())
	})
	s.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go s.server.Serve(page)
	return s, nil
}

// Also takes messages at another address, too. It is not called once [Sink.Close] is.
func (s *Sink) Also(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	s.smtp = append(s.smtp, l)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go s.talk(conn)
		}
	}()
	return nil
}

// Close stops.
func (s *Sink) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	errs := []error{s.server.Shutdown(ctx)}
	for _, l := range s.smtp {
		errs = append(errs, l.Close())
	}
	return errors.Join(errs...)
}

// Messages returns what was taken, newest first.
func (s *Sink) Messages() []Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := slices.Clone(s.messages)
	slices.Reverse(list)
	return list
}

// To returns what was taken for one address, newest first.
func (s *Sink) To(address string) []Message {
	return slices.DeleteFunc(s.Messages(), func(m Message) bool { return !slices.Contains(m.To, address) })
}

// talk is one session (RFC 5321, section 4).
func (s *Sink) talk(conn net.Conn) {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(2 * time.Minute))
	lines := textproto.NewReader(bufio.NewReaderSize(conn, 4096))
	say := func(format string, args ...any) { fmt.Fprintf(conn, format+"\r\n", args...) }
	say("220 mailsink ready")
	var m Message
	begun := false // the sender may be the empty one
	for {
		line, err := lines.ReadLine()
		if err != nil {
			return
		}
		verb, rest, _ := strings.Cut(line, " ")
		switch strings.ToUpper(verb) {
		case "EHLO":
			say("250-mailsink\r\n250-8BITMIME\r\n250 SIZE %d", mostBytes)
		case "HELO", "RSET", "NOOP":
			m, begun = Message{}, false
			say("250 good")
		case "MAIL":
			m, begun = Message{From: address(rest)}, true
			say("250 good")
		case "RCPT":
			to := address(rest)
			switch local, _, _ := strings.Cut(to, "@"); {
			case !begun:
				say("503 first MAIL")
			case local == "refused":
				say("550 there is no such mailbox here")
			case local == "later":
				say("451 try again later")
			default:
				m.To = append(m.To, to)
				say("250 good")
			}
		case "DATA":
			if len(m.To) == 0 {
				say("503 first RCPT")
				continue
			}
			say("354 go on, end with a dot")
			text, err := io.ReadAll(io.LimitReader(lines.DotReader(), mostBytes))
			if err != nil {
				return
			}
			m.Raw = string(text[:min(len(text), keptBytes)])
			s.save(m)
			m, begun = Message{}, false
			say("250 taken")
		case "QUIT":
			say("221 good bye")
			return
		default:
			say("502 that is not known here")
		}
	}
}

// address takes the address out of FROM:<a@b> or TO:<a@b>.
func address(text string) string {
	_, text, _ = strings.Cut(text, "<")
	text, _, _ = strings.Cut(text, ">")
	return text
}

func (s *Sink) save(m Message) {
	if parsed, err := mail.ReadMessage(strings.NewReader(m.Raw)); err == nil {
		m.Subject, _ = new(mime.WordDecoder).DecodeHeader(parsed.Header.Get("Subject"))
		body := parsed.Body
		if strings.EqualFold(parsed.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
			body = quotedprintable.NewReader(body)
		}
		text, _ := io.ReadAll(body) // what can be read is shown
		m.Text = string(text)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	m.Number, m.At = s.count, time.Now()
	s.messages = append(s.messages, m)
	s.messages = s.messages[max(0, len(s.messages)-kept):]
}

var page = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Mail sink</title>
<style>
body { max-width: 60rem; margin: 2rem auto; padding: 0 1rem; font: 15px/1.5 ui-sans-serif, system-ui, sans-serif; background: #f4f1e9; color: #1c2422; }
article { background: #fdfbf5; border: 1px solid #d8d2c3; border-left: 4px solid #47605c; margin: 1rem 0; padding: .6rem 1rem; }
h2 { font-size: 1.05rem; margin: 0; } p { margin: .1rem 0; color: #56605b; } pre { white-space: pre-wrap; overflow-wrap: anywhere; font: 13px/1.5 ui-monospace, monospace; }
</style></head><body>
<h1>Mail sink</h1>
<p>Every message that the demo sends ends here; none is delivered.</p>
{{range .}}<article><h2>{{.Subject}}</h2><p>to {{range .To}}{{.}} {{end}}from {{.From}}, {{.At.Format "2006-01-02 15:04:05"}}</p><pre>{{.Text}}</pre></article>
{{else}}<p>There are none yet.</p>{{end}}
</body></html>
`))

func (s *Sink) show(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	list := s.Messages()
	page.Execute(w, list[:min(len(list), shown)])
}
