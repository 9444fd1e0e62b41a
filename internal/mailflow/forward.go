package mailflow

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"net"
	"net/textproto"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-smtp"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/mailflow/definition"
)

// forwardAddress is the address of a [definition.ForwardRecipient].
func forwardAddress(local string) string {
	before, domain, _ := strings.Cut(local, "=")
	if before == "" {
		before = mail.CatchAll
	}
	return before + "@" + domain
}

// mostMessage bounds a message in bytes. Postfix has a lower bound.
const mostMessage = 256 << 20

// ServeForwards takes messages that are to be passed on (LMTP, RFC 2033) until the listener is
// closed, and puts them into Postfix's queue anew. Until all of that is done, the message stays in
// Postfix's queue as it came.
func (f *Flow) ServeForwards(l net.Listener) error {
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		return &passing{flow: f}, nil
	}))
	server.LMTP, server.Domain, server.MaxMessageBytes = true, f.config.Load().Name, mostMessage
	server.MaxLineLength = mostMessage
	server.ReadTimeout, server.WriteTimeout = 5*time.Minute, 5*time.Minute
	if err := server.Serve(l); !errors.Is(err, smtp.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// passing is a conversation with Postfix.
type passing struct {
	flow       *Flow
	sender     string
	recipients []passed
}

// passed is what is to be done for a recipient.
type passed struct {
	recipient string
	forward   *Forward // nil for lists and what comes back
	list      *listed  // nil for what is no list's
	back      string   // the sender it goes back to
}

func (p *passing) Reset()        { p.sender, p.recipients = "", nil }
func (p *passing) Logout() error { return nil }

func (p *passing) Mail(from string, _ *smtp.MailOptions) error {
	p.sender = from
	return nil
}

// reply is an answer with a code of RFC 3463.
func reply(code int, class, subject, detail int, text string) *smtp.SMTPError {
	return &smtp.SMTPError{Code: code, EnhancedCode: smtp.EnhancedCode{class, subject, detail}, Message: text}
}

var errUndecided = reply(451, 4, 3, 0, "this cannot be decided just now; try again later")

func (p *passing) Rcpt(to string, _ *smtp.RcptOptions) error {
	local, domain, _ := strings.Cut(to, "@")
	one := passed{recipient: to}
	switch strings.ToLower(domain) {
	case definition.ReturnDomain:
		back, err := p.flow.returns().Sender(local, p.flow.Tally.Now())
		if err != nil {
			return reply(550, 5, 1, 1, err.Error())
		}
		one.back = back
	case definition.ForwardDomain:
		// What the writer has added to the address is still there (RFC 5233).
		local, _, _ = strings.Cut(local, mail.Separator)
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		var err error
		if one.list, err = p.flow.findList(ctx, strings.ToLower(local)); err != nil {
			p.flow.Log.Error("a list is not looked up", "recipient", to, "error", err)
			return errUndecided
		}
		if one.list != nil {
			break
		}
		forward, err := p.flow.Tables.Forward(ctx, forwardAddress(strings.ToLower(local)))
		if errors.Is(err, ErrNone) {
			return reply(550, 5, 1, 1, "there is no such address")
		}
		if err != nil {
			p.flow.Log.Error("an address is not looked up", "recipient", to, "error", err)
			return errUndecided
		}
		one.forward = &forward
	default:
		return reply(550, 5, 1, 2, "messages to this domain are not passed on here")
	}
	p.recipients = append(p.recipients, one)
	return nil
}

// Data implements smtp.Session; in LMTP it is LMTPData that is called.
func (p *passing) Data(io.Reader) error { return errUndecided }

// LMTPData implements smtp.LMTPSession.
func (p *passing) LMTPData(r io.Reader, status smtp.StatusCollector) error {
	file, err := p.flow.scratchFile()
	if err != nil {
		p.flow.Log.Error("a message is not passed on", "error", err)
		return errUndecided
	}
	defer file.Close()
	if _, err := io.Copy(file, r); err != nil {
		return err
	}
	for _, one := range p.recipients {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return errUndecided
		}
		err := p.pass(one, file)
		if _, is := errors.AsType[*smtp.SMTPError](err); err != nil && !is {
			p.flow.Log.Error("a message is not passed on", "recipient", one.recipient, "error", err)
			err = errUndecided
		}
		status.SetStatus(one.recipient, err)
	}
	return nil
}

// pass passes a message on for one recipient.
func (p *passing) pass(one passed, message *os.File) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	f := p.flow
	if one.forward == nil && one.list == nil {
		return f.Inject(ctx, "", []string{one.back}, message)
	}
	header, err := headerOf(message)
	if err != nil {
		return err
	}
	if one.list != nil {
		return p.passToList(ctx, *one.list, message, header)
	}
	if slices.ContainsFunc(header.Values("Delivered-To"), isAddress(one.forward.Address)) {
		return reply(554, 5, 4, 6,
			"the message has been passed on by this address before: the forwards are a loop")
	}
	if len(one.forward.Targets) == 0 {
		return f.reply(ctx, *one.forward, p.sender, header)
	}
	if one.forward.Keeps && f.isSpam(header, one.forward.JunkAbove) {
		return reply(250, 2, 0, 0, mail.SpamAnswer)
	}
	if err := mayPassOn(one.forward.Account); err != nil {
		return err
	}
	if err := f.passOn(ctx, *one.forward, p.sender, message); err != nil {
		return err
	}
	// What was passed on must not be once more for want of a reply.
	if err := f.reply(ctx, *one.forward, p.sender, header); err != nil {
		f.Log.Warn("nobody is told of an absence", "mailbox", one.forward.Address, "error", err)
	}
	return nil
}

// isSpam reports whether a message was found to be spam: above is the score in tenths from which on
// it is, 0 is the server's.
func (f *Flow) isSpam(header textproto.MIMEHeader, above int) bool {
	tenths, err := strconv.Atoi(header.Get(mail.TenthsField))
	return err == nil && f.Judge() != nil && tenths >= cmp.Or(above, f.config.Load().JunkAbove)
}

// isAddress compares with an address.
func isAddress(address string) func(string) bool {
	return func(other string) bool { return strings.EqualFold(strings.TrimSpace(other), address) }
}

// passToList passes a message on to a list, unless it has been there before.
func (p *passing) passToList(ctx context.Context, to listed, message *os.File, header textproto.MIMEHeader) error {
	if slices.ContainsFunc(header.Values("Delivered-To"), isAddress(to.list.Address)) {
		return reply(554, 5, 4, 6, "the message has been passed on by this list before: the lists are a loop")
	}
	if err := mayPassOn(to.list.Account); err != nil {
		return err
	}
	return p.flow.passList(ctx, to, p.sender, message, header)
}

// mayPassOn has messages wait while an account passes nothing on.
func mayPassOn(a Account) error {
	switch {
	case a.Silent:
		return reply(450, 4, 7, 1, silence)
	case a.Stopped:
		return reply(450, 4, 7, 1, stopped)
	}
	return nil
}

// passOn puts a message into the queue for the targets of an address.
func (f *Flow) passOn(ctx context.Context, to Forward, from string, message *os.File) error {
	over, err := f.takePassed(to.Account, int64(len(to.Targets)))
	if err != nil {
		return err
	}
	if over != nil {
		return reply(450, 4, 7, 1, "as much as the account may pass on within an hour has been passed on")
	}
	_, after, _ := strings.Cut(to.Address, "@")
	domain, _, err := names.ParseDomain(after)
	if err != nil {
		return err
	}
	sender := f.returns().Address(from, domain, f.Tally.Now())
	mark, err := f.seal(ctx, domain.String(), message)
	if err != nil {
		return err
	}
	mark += "Delivered-To: " + to.Address + "\r\n"
	if _, err := message.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return f.Inject(ctx, sender, to.Targets, io.MultiReader(strings.NewReader(mark), message))
}

// seal is what is put before a message that is passed on by a domain, so that its next server can
// see what this one found out: an ARC set, or nothing where it cannot be sealed.
func (f *Flow) seal(ctx context.Context, domain string, message *os.File) (string, error) {
	key, err := f.Tables.Key(ctx, domain)
	if errors.Is(err, ErrNone) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if _, err := message.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	in := bufio.NewReader(message)
	header, err := readHeader(in)
	if err != nil {
		return "", nil // no header that anybody could read
	}
	fields := make([]mail.HeaderField, len(header))
	for n, h := range header {
		fields[n] = mail.HeaderField(h)
	}
	seal := mail.Seal{Domain: key.Domain, Selector: key.Selector, Key: key.Private, Server: f.config.Load().Name}
	set, err := seal.Fields(fields, in, f.Tally.Now())
	if err != nil {
		return "", err
	}
	out := ""
	for _, h := range set {
		out += h.Name + ": " + h.Value + "\r\n"
	}
	return out, nil
}

// headerOf reads the header of a message.
func headerOf(message io.Reader) (textproto.MIMEHeader, error) {
	const mostHeader = 1 << 20
	header := textproto.MIMEHeader{}
	in := textproto.NewReader(bufio.NewReader(io.LimitReader(message, mostHeader)))
	for {
		line, err := in.ReadContinuedLineBytes()
		if errors.Is(err, io.EOF) || err == nil && len(line) == 0 {
			return header, nil
		}
		if err != nil {
			return nil, err
		}
		if name, value, has := bytes.Cut(line, []byte(":")); has {
			header.Add(string(bytes.TrimSpace(name)), strings.TrimSpace(string(value)))
		}
	}
}
