package mailflow

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"os"
	"strings"
	"time"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

// Judge asks the spam filter, rspamd, over its sockets (HTTP).
type Judge struct{ http *http.Client }

// judgePatience is how long a judgement may take. The filter gives up after 8 seconds by itself.
const judgePatience = 15 * time.Second

// NewJudge returns a judge whose sockets are in a directory.
func NewJudge(dir string) *Judge {
	return &Judge{&http.Client{Timeout: judgePatience, Transport: &http.Transport{
		MaxIdleConns: 8, IdleConnTimeout: time.Minute,
		// The host of an address is the name of a socket.
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			name, _, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "unix", dir+"/"+name)
		}}}}
}

// envelope is what is known of a message beside what it says.
type envelope struct {
	client, clientName, helo string
	queue                    string
	// user is the mailbox whose holder has signed in, or the account of the site that sends it.
	user       string
	sender     string
	recipients []string
}

// post asks something about a message, from its beginning.
func (j *Judge) post(ctx context.Context, at string, message *os.File) (*http.Request, error) {
	size, err := message.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = message.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+at, io.NopCloser(message))
	if err == nil {
		request.ContentLength = size // it does not read what comes in chunks
	}
	return request, err
}

// judge asks what a message is.
func (j *Judge) judge(ctx context.Context, e envelope, message *os.File) (mail.Judgement, error) {
	none := mail.Judgement{}
	request, err := j.post(ctx, definition.JudgeSocket+"/checkv2", message)
	if err != nil {
		return none, err
	}
	for name, value := range map[string]string{"IP": e.client, "Hostname": e.clientName, "Helo": e.helo,
		"Queue-Id": e.queue, "User": e.user, "From": e.sender} {
		if value != "" && !strings.ContainsFunc(value, isOdd) {
			request.Header.Set(name, value)
		}
	}
	for _, r := range e.recipients {
		if !strings.ContainsFunc(r, isOdd) {
			request.Header.Add("Rcpt", r)
		}
	}
	answer, err := j.http.Do(request)
	if err != nil {
		return none, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return none, fmt.Errorf("the spam filter answers %s", answer.Status)
	}
	var said struct {
		Score   float64 `json:"score"`
		Action  string  `json:"action"`
		Symbols map[string]struct {
			Score   float64  `json:"score"`
			Options []string `json:"options"`
		} `json:"symbols"`
		Messages map[string]any `json:"messages"`
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, 4<<20)).Decode(&said); err != nil {
		return none, fmt.Errorf("the answer of the spam filter cannot be read: %w", err)
	}
	out := mail.Judgement{Score: said.Score, Action: mail.Take, Rules: map[string]mail.Rule{}}
	for name, s := range said.Symbols {
		out.Rules[name] = mail.Rule{Score: s.Score, Details: s.Options}
	}
	out.Reason, _ = said.Messages["smtp_message"].(string)
	switch said.Action {
	case "reject":
		out.Action = mail.Refuse
	case "soft reject":
		out.Action = mail.Later
	}
	return out, nil
}

// teach tells the filter that a message is spam, or is none.
func (j *Judge) teach(ctx context.Context, spam bool, message *os.File) error {
	path := "/learnham"
	if spam {
		path = "/learnspam"
	}
	request, err := j.post(ctx, definition.TeachSocket+path, message)
	if err != nil {
		return err
	}
	answer, err := j.http.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	// It answers 208 for what it knows already.
	if answer.StatusCode >= http.StatusMultipleChoices {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 500))
		return fmt.Errorf("the spam filter answers %s: %s", answer.Status, text)
	}
	return nil
}

// spool is a message that is kept until all of it is there, with its header.
type spool struct {
	header []field
	file   *os.File
}

// begin writes the header; what follows is the body.
func (s *spool) begin(f *Flow) error {
	file, err := f.scratchFile()
	if err != nil {
		return err
	}
	s.file = file
	return writeHeader(file, s.header)
}

// rewind is the message from its beginning.
func (s *spool) rewind() (io.Reader, error) {
	_, err := s.file.Seek(0, io.SeekStart)
	return s.file, err
}

func (s *spool) close() {
	if s.file != nil {
		_ = s.file.Close() // it has no name and is gone
	}
	s.header, s.file = nil, nil
}

// refusal is what a sender is told whose message is not taken; nil where it is.
func refusalOf(j mail.Judgement) *textproto.Error {
	switch j.Action {
	case mail.Refuse:
		text := "5.7.1 the message looks like spam"
		if j.Reason != "" && !strings.ContainsFunc(j.Reason, isOdd) {
			text = "5.7.1 the message is not taken: " + j.Reason
		}
		return &textproto.Error{Code: 550, Msg: text}
	case mail.Later:
		return &textproto.Error{Code: 451, Msg: "4.7.1 the message is taken when it is sent once more, a few " +
			"minutes later"}
	}
	return nil
}

// forbidden is the refusal of a message with an attachment that nobody here wants.
func (f *Flow) forbidden(message io.Reader) *textproto.Error {
	name := mail.ForbiddenAttachment(message, f.config.Load().Forbidden)
	if name == "" {
		return nil
	}
	printable := strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '?'
		}
		return r
	}, name)
	return &textproto.Error{Code: 550, Msg: fmt.Sprintf(
		"5.7.1 attachments such as %.60s are not taken here; send it in another way", printable)}
}
