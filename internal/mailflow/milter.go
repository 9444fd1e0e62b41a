package mailflow

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/textproto"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-milter"
	"github.com/emersion/go-msgauth/dkim"

	"victualler/internal/hosting/mail"
)

// ServeMilter looks at what mailbox holders send, until the listener is closed: that it names no
// one else as its sender, and that it is no spam; and signs it for the sender's domain.
func (f *Flow) ServeMilter(l net.Listener) error {
	return serveMilter(l, func() milter.Milter { return &outgoing{flow: f} },
		milter.OptNoConnect|milter.OptNoHelo|milter.OptNoUnknown|milter.OptNoData)
}

func serveMilter(l net.Listener, make func() milter.Milter, leaveOut milter.OptProtocol) error {
	server := &milter.Server{NewMilter: make, Actions: milter.OptAddHeader, Protocol: leaveOut}
	if err := server.Serve(l); !errors.Is(err, net.ErrClosed) && !errors.Is(err, milter.ErrServerClosed) {
		return err
	}
	return nil
}

// answer tells Postfix what its client is to be told.
func answer(refusal *textproto.Error) milter.Response {
	// A percent sign would have it look for a value.
	return milter.NewResponseStr(byte(milter.ActReplyCode),
		strings.ReplaceAll(fmt.Sprintf("%d %s", refusal.Code, refusal.Msg), "%", "%%"))
}

// outgoing is one message after the other of a connection to Postfix.
type outgoing struct {
	milter.NoOpMilter
	flow *Flow

	envelope
	message spool
	// odd says that the header has octets that no header has: what reads it may take them for the
	// end of a line.
	odd    bool
	signer *dkim.Signer
}

// field is a header field as it is on its way.
type field mail.HeaderField

func (o *outgoing) MailFrom(from string, m *milter.Modifier) (milter.Response, error) {
	o.forget()
	o.user, o.sender = strings.ToLower(m.Macros["{auth_authen}"]), from
	return milter.RespContinue, nil
}

func (o *outgoing) RcptTo(to string, _ *milter.Modifier) (milter.Response, error) {
	o.recipients = append(o.recipients, to)
	return milter.RespContinue, nil
}

func (o *outgoing) Header(name, value string, _ *milter.Modifier) (milter.Response, error) {
	// What stands before the colon may have spaces after it (RFC 5322, section 4.5.3).
	o.message.header = append(o.message.header, field{strings.TrimRight(name, " \t"), value})
	o.odd = o.odd || strings.ContainsFunc(unfold(value), isOdd)
	return milter.RespContinue, nil
}

// Headers decides by the fields whether the message may be sent.
func (o *outgoing) Headers(textproto.MIMEHeader, *milter.Modifier) (milter.Response, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if o.odd {
		return answer(&textproto.Error{Code: 550, Msg: "5.6.0 the header of the message has octets that no header " +
				"has"}),
			nil
	}
	from, unknown, err := checkSender(o.message.header, func(address string) (bool, error) {
		return o.flow.Tables.MayUse(ctx, o.user, address)
	})
	switch {
	case unknown != nil || o.user == "":
		o.flow.Log.Error("a sender is not checked", "mailbox", o.user, "error", unknown)
		return milter.RespTempFail, nil
	case err != nil:
		return answer(&textproto.Error{Code: 550, Msg: "5.7.1 " + err.Error()}), nil
	}
	o.signer, err = o.flow.signer(ctx, from, o.message.header)
	if err == nil && o.flow.Judge() != nil {
		err = o.message.begin(o.flow)
	}
	if err != nil {
		o.flow.Log.Error("a message is not signed", "from", from, "error", err)
		return milter.RespTempFail, nil
	}
	return milter.RespContinue, nil
}

func (o *outgoing) BodyChunk(chunk []byte, _ *milter.Modifier) (milter.Response, error) {
	if o.message.file != nil {
		if _, err := o.message.file.Write(chunk); err != nil {
			return milter.RespTempFail, nil
		}
	}
	if o.signer != nil {
		if _, err := o.signer.Write(chunk); err != nil {
			return milter.RespTempFail, nil
		}
	}
	return milter.RespContinue, nil
}

func (o *outgoing) Body(m *milter.Modifier) (milter.Response, error) {
	defer o.forget()
	o.queue = m.Macros["i"]
	if refused := o.flow.judgeOutgoing(o.envelope, &o.message); refused != nil {
		return answer(refused), nil
	}
	if o.signer == nil {
		return milter.RespAccept, nil
	}
	signer := o.signer
	o.signer = nil
	if err := signer.Close(); err != nil {
		o.flow.Log.Error("a message is not signed", "mailbox", o.user, "error", err)
		return milter.RespTempFail, nil
	}
	value := strings.TrimSpace(strings.TrimPrefix(signer.Signature(), "DKIM-Signature:"))
	if err := m.InsertHeader(0, "DKIM-Signature", strings.ReplaceAll(value, "\r\n", "\n")); err != nil {
		return milter.RespTempFail, nil
	}
	return milter.RespAccept, nil
}

func (o *outgoing) Abort(*milter.Modifier) error {
	o.forget()
	return nil
}

// forget ends what was begun with the message before.
func (o *outgoing) forget() {
	if o.signer != nil {
		_ = o.signer.Close()
	}
	o.message.close()
	o.signer, o.odd, o.envelope = nil, false, envelope{}
}

// judgeOutgoing asks whether a message is spam that somebody here is about to send. While the
// filter cannot be asked it is sent: limits bound how much that can be.
func (f *Flow) judgeOutgoing(e envelope, message *spool) *textproto.Error {
	judge := f.Judge()
	if judge == nil || message.file == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), judgePatience)
	defer cancel()
	found, err := judge.judge(ctx, e, message.file)
	if err != nil {
		f.Log.Warn("what is sent is not judged", "user", e.user, "error", err)
		return nil
	}
	if found.Action != mail.Refuse {
		return nil
	}
	f.Log.Warn("spam is not sent", "user", e.user, "queue", e.queue, "score", found.ScoreText())
	return refusalOf(found)
}

// writeHeader writes a header with the empty line after it, with line ends as they travel.
func writeHeader(w io.Writer, header []field) error {
	var text bytes.Buffer
	for _, h := range header {
		text.WriteString(h.Name + ": " + strings.ReplaceAll(strings.ReplaceAll(h.Value, "\r\n", "\n"), "\n", "\r\n") +
			"\r\n")
	}
	text.WriteString("\r\n")
	_, err := w.Write(text.Bytes())
	return err
}

// checkSender refuses a header that names a sender who is somebody else ([mail.CheckSender]), and
// returns the address of its author. Where it could not be found out whose an address is, unknown
// says why.
func checkSender(header []field, mayUse func(address string) (bool, error)) (from string, unknown, err error) {
	fields := map[string][]string{}
	for _, h := range header {
		for _, name := range mail.SenderFields {
			if strings.EqualFold(h.Name, name) {
				fields[name] = append(fields[name], unfold(h.Value))
			}
		}
	}
	from, err = mail.CheckSender(fields, func(address string) (bool, error) {
		may, err := mayUse(address)
		unknown = errors.Join(unknown, err)
		return may, err
	})
	return from, unknown, err
}

// isOdd reports whether an octet is none that a header has, and that some take for the end of a
// line.
func isOdd(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }

// unfold is a field's value on one line (RFC 5322, section 2.2.3).
func unfold(value string) string { return strings.NewReplacer("\r\n", "", "\n", "").Replace(value) }

// signedFields are those that a signature covers (RFC 6376, section 5.4.1). Those which a message
// has once are named once more than they are there, so that none can be put before them later.
var signedFields = []string{"From", "To", "Cc", "Subject", "Date", "Message-ID", "Reply-To", "In-Reply-To",
	"References", "MIME-Version", "Content-Type", "Content-Transfer-Encoding", "List-Id", "List-Unsubscribe",
	"List-Unsubscribe-Post"}

// signer returns what signs a message for the domain of its author, having read its header; nil
// where the domain has no key. The caller writes the body to it and closes it.
func (f *Flow) signer(ctx context.Context, from string, header []field) (*dkim.Signer, error) {
	_, domain, _ := strings.Cut(from, "@")
	key, err := f.Tables.Key(ctx, domain)
	if errors.Is(err, ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	keys := []string{"From"}
	for _, name := range signedFields {
		if name == "From" || slices.ContainsFunc(header,
			func(f field) bool { return strings.EqualFold(f.Name, name) }) {
			keys = append(keys, name)
		}
	}
	signer, err := dkim.NewSigner(&dkim.SignOptions{Domain: key.Domain, Selector: key.Selector, Signer: key.Private,
		HeaderCanonicalization: dkim.CanonicalizationRelaxed, BodyCanonicalization: dkim.CanonicalizationRelaxed,
		HeaderKeys: keys})
	if err != nil {
		return nil, err
	}
	if err := writeHeader(signer, header); err != nil {
		return nil, errors.Join(err, signer.Close())
	}
	return signer, nil
}

// ownHeader begins the header of a text of our own making. Auto says how it came to be (RFC 3834,
// section 5), so that no program answers.
func ownHeader(from, to, subject, auto string, now time.Time, server string) []field {
	return []field{{"From", from}, {"To", to}, {"Subject", mime.QEncoding.Encode("utf-8", subject)},
		{"Date", now.Format(time.RFC1123Z)}, {"Message-ID", fmt.Sprintf("<%s@%s>", rand.Text(), server)},
		{"Auto-Submitted", auto}, {"MIME-Version", "1.0"}, {"Content-Type", "text/plain; charset=utf-8"}}
}

// injectSigned puts a message of our own making into the queue, signed for the domain of its author
// if that has a key.
func (f *Flow) injectSigned(ctx context.Context, author, sender string, recipients []string, header []field,
	text []byte) error {
	signer, err := f.signer(ctx, author, header)
	if err != nil {
		return err
	}
	var message bytes.Buffer
	if signer != nil {
		if _, err := (&lineEnds{w: signer}).Write(text); err != nil {
			return errors.Join(err, signer.Close())
		}
		if err := signer.Close(); err != nil {
			return err
		}
		message.WriteString(signer.Signature())
	}
	if err := writeHeader(&message, header); err != nil {
		return err
	}
	return f.Inject(ctx, sender, recipients, io.MultiReader(&message, bytes.NewReader(text)))
}
