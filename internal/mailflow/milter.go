package mailflow

import (
	"bytes"
	"context"
	"errors"
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
// one else as its sender, and signs it for the sender's domain.
func (f *Flow) ServeMilter(l net.Listener) error {
	server := &milter.Server{NewMilter: func() milter.Milter { return &outgoing{flow: f} },
		Actions: milter.OptAddHeader,
		Protocol: milter.OptNoConnect | milter.OptNoHelo | milter.OptNoRcptTo | milter.OptNoUnknown |
			milter.OptNoData}
	if err := server.Serve(l); !errors.Is(err, net.ErrClosed) && !errors.Is(err, milter.ErrServerClosed) {
		return err
	}
	return nil
}

// outgoing is one message after the other of a connection to Postfix.
type outgoing struct {
	milter.NoOpMilter
	flow *Flow

	mailbox string
	header  []field
	// odd says that the header has octets that no header has: what reads it may take them for the
	// end of a line.
	odd    bool
	signer *dkim.Signer
}

// field is a header field as it is on its way.
type field struct{ name, value string }

func (o *outgoing) MailFrom(_ string, m *milter.Modifier) (milter.Response, error) {
	o.forget()
	o.mailbox = strings.ToLower(m.Macros["{auth_authen}"])
	return milter.RespContinue, nil
}

func (o *outgoing) Header(name, value string, _ *milter.Modifier) (milter.Response, error) {
	// What stands before the colon may have spaces after it (RFC 5322, section 4.5.3).
	o.header = append(o.header, field{strings.TrimRight(name, " \t"), value})
	o.odd = o.odd || strings.ContainsFunc(unfold(value), isOdd)
	return milter.RespContinue, nil
}

// Headers decides by the fields whether the message may be sent.
func (o *outgoing) Headers(textproto.MIMEHeader, *milter.Modifier) (milter.Response, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if o.odd {
		return milter.NewResponseStr(byte(milter.ActReplyCode),
			"550 5.6.0 the header of the message has octets that no header has"), nil
	}
	from, unknown, err := checkSender(o.header, func(address string) (bool, error) {
		return o.flow.Tables.MayUse(ctx, o.mailbox, address)
	})
	switch {
	case unknown != nil || o.mailbox == "":
		o.flow.Log.Error("a sender is not checked", "mailbox", o.mailbox, "error", unknown)
		return milter.RespTempFail, nil
	case err != nil:
		return milter.NewResponseStr(byte(milter.ActReplyCode), "550 5.7.1 "+err.Error()), nil
	}
	o.signer, err = o.flow.signer(ctx, from, o.header)
	if err != nil {
		o.flow.Log.Error("a message is not signed", "from", from, "error", err)
		return milter.RespTempFail, nil
	}
	return milter.RespContinue, nil
}

func (o *outgoing) BodyChunk(chunk []byte, _ *milter.Modifier) (milter.Response, error) {
	if o.signer == nil {
		return milter.RespContinue, nil
	}
	if _, err := o.signer.Write(chunk); err != nil {
		return milter.RespTempFail, nil
	}
	return milter.RespContinue, nil
}

func (o *outgoing) Body(m *milter.Modifier) (milter.Response, error) {
	if o.signer == nil {
		return milter.RespAccept, nil
	}
	signer := o.signer
	o.signer = nil
	if err := signer.Close(); err != nil {
		o.flow.Log.Error("a message is not signed", "mailbox", o.mailbox, "error", err)
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
	o.signer, o.header, o.odd = nil, nil, false
}

// writeHeader writes a header with the empty line after it, with line ends as they travel.
func writeHeader(w *bytes.Buffer, header []field) {
	for _, h := range header {
		w.WriteString(h.name + ": " + strings.ReplaceAll(strings.ReplaceAll(h.value, "\r\n", "\n"), "\n", "\r\n") +
			"\r\n")
	}
	w.WriteString("\r\n")
}

// checkSender refuses a header that names a sender who is somebody else ([mail.CheckSender]), and
// returns the address of its author. Where it could not be found out whose an address is, unknown
// says why.
func checkSender(header []field, mayUse func(address string) (bool, error)) (from string, unknown, err error) {
	fields := map[string][]string{}
	for _, h := range header {
		for _, name := range mail.SenderFields {
			if strings.EqualFold(h.name, name) {
				fields[name] = append(fields[name], unfold(h.value))
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
		if name == "From" || slices.ContainsFunc(header, func(f field) bool {
			return strings.EqualFold(f.name,
				name)
		}) {
			keys = append(keys, name)
		}
	}
	signer, err := dkim.NewSigner(&dkim.SignOptions{Domain: key.Domain, Selector: key.Selector, Signer: key.Private,
		HeaderCanonicalization: dkim.CanonicalizationRelaxed, BodyCanonicalization: dkim.CanonicalizationRelaxed,
		HeaderKeys: keys})
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	writeHeader(&text, header)
	if _, err := signer.Write(text.Bytes()); err != nil {
		return nil, errors.Join(err, signer.Close())
	}
	return signer, nil
}
