package mailflow

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	netmail "net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
	"victualler/internal/mailflow/submit"
	"victualler/internal/manifest"
)

// Bounds of what programs in sandboxes hand over.
const (
	// siteMessage is the largest message in bytes.
	siteMessage = 70 << 20
	// siteHeader is the largest header in bytes.
	siteHeader = 1 << 20
	// siteRecipients is the most recipients of a message.
	siteRecipients = 1000
	// siteAtOnce is how many messages of an account are read at the same time, and allAtOnce of
	// all: they lie on the server's own disk meanwhile.
	siteAtOnce, allAtOnce = 4, 16
	// sitePatience is how long a message may take to come.
	sitePatience = 2 * time.Minute
)

// busy bounds how much of one kind goes on at the same time, of each and of all.
type busy[K comparable] struct {
	mu     sync.Mutex
	counts map[K]int
	all    int
}

// enter reports whether one more may go on, of which there are no more than that many of each and
// of all; then it is to leave.
func (b *busy[K]) enter(of K, each, all int) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.counts == nil {
		b.counts = map[K]int{}
	}
	if b.counts[of] >= each || b.all >= all {
		return false
	}
	b.counts[of]++
	b.all++
	return true
}

func (b *busy[K]) leave(of K) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.counts[of]--; b.counts[of] == 0 {
		delete(b.counts, of)
	}
}

// ServeSites takes messages from programs in sandboxes (package submit) until the listener is
// closed. Which account they are of is what the kernel tells of the process at the other end.
func (f *Flow) ServeSites(l net.Listener) error {
	return serve(l, func(conn net.Conn) error {
		if err := conn.SetDeadline(time.Now().Add(sitePatience)); err != nil {
			return err
		}
		user, err := peerUser(conn)
		if err != nil {
			return err
		}
		account, is := manifest.AccountOfUID(user)
		if !is {
			return fmt.Errorf("user %d is no account's", user)
		}
		by, err := f.sendsBy(user, account)
		if err != nil {
			return err
		}
		if by != nil {
			return json.NewEncoder(conn).Encode(f.sendByOther(*by, conn))
		}
		return json.NewEncoder(conn).Encode(f.takeFromSite(account, conn))
	})
}

var tooMany = submit.Answer{Exit: submit.NotNow,
	Error: "too many messages come at the same time; try again in a moment"}

// peerUser is the user whose process is at the other end of a connection.
func peerUser(conn net.Conn) (int, error) {
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return 0, err
	}
	var who *unix.Ucred
	var asked error
	if err := raw.Control(func(fd uintptr) {
		who, asked = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil {
		return 0, err
	}
	if asked != nil {
		return 0, asked
	}
	return int(who.Uid), nil
}

// takeFromSite takes one message.
func (f *Flow) takeFromSite(account int64, conn io.Reader) submit.Answer {
	if !f.sites.enter(account, siteAtOnce, allAtOnce) {
		return tooMany
	}
	defer f.sites.leave(account)
	ctx, cancel := context.WithTimeout(context.Background(), sitePatience)
	defer cancel()
	err := f.sendForSite(ctx, account, conn)
	var refused *siteRefusal
	switch {
	case err == nil:
		return submit.Answer{}
	case errors.As(err, &refused):
		return submit.Answer{Exit: refused.exit, Error: refused.text}
	}
	f.Log.Error("a message of a site is not sent", "account", account, "error", err)
	return submit.Answer{Exit: submit.NotNow, Error: "the message cannot be sent just now; try again later"}
}

// siteRefusal is what a program in a sandbox is told.
type siteRefusal struct {
	exit int
	text string
}

func (r *siteRefusal) Error() string { return r.text }

func refuseSite(exit int, format string, args ...any) error {
	return &siteRefusal{exit, fmt.Sprintf(format, args...)}
}

var noMail = refuseSite(submit.Refused, "this account has no mail, so its sites send none: first add a mailbox or an "+
	"address to it")

func (f *Flow) sendForSite(ctx context.Context, number int64, conn io.Reader) error {
	in := bufio.NewReaderSize(io.LimitReader(conn, siteMessage+1), 256<<10)
	head, err := in.ReadSlice('\n')
	if err != nil {
		return refuseSite(submit.BadData, "the request is too long or has been cut off")
	}
	var request submit.Request
	if err := json.Unmarshal(head, &request); err != nil {
		return refuseSite(submit.BadData, "the request cannot be read")
	}
	if f.Tables == nil { // no mail server
		return noMail
	}
	account, err := f.Tables.Account(ctx, number)
	if errors.Is(err, ErrNone) {
		return noMail
	}
	if err != nil {
		return err
	}
	switch {
	case account.Silent:
		return refuseSite(submit.Refused, "%s", silence)
	case account.Stopped:
		return refuseSite(submit.NotNow, "%s", stopped)
	}
	header, err := readHeader(in)
	if err != nil {
		return refuseSite(submit.BadData, "the header of the message cannot be read: %v", err)
	}
	if header, err = f.completeHeader(ctx, account, header); err != nil {
		return err
	}
	from, err := f.checkSiteSender(ctx, account, header)
	if err != nil {
		return err
	}
	recipients, err := siteRecipientsOf(request, header)
	if err != nil {
		return err
	}
	header = slices.DeleteFunc(header, func(h field) bool { return strings.EqualFold(h.Name, "Bcc") })
	sender := from
	if request.Sender != "" {
		if owns, err := f.ownsAddress(ctx, account, request.Sender); err != nil {
			return err
		} else if owns {
			sender = request.Sender
		}
	}
	return f.spoolAndSend(ctx, account, from, sender, recipients, header, in)
}

// spoolAndSend reads the rest of a message, counts it and puts it into the queue, signed.
func (f *Flow) spoolAndSend(ctx context.Context, account Account, from, sender string, recipients []string,
	header []field, rest io.Reader) error {
	message := spool{header: header}
	if err := message.begin(f); err != nil {
		return err
	}
	defer message.close()
	signer, err := f.signer(ctx, from, header)
	if err != nil {
		return err
	}
	body := io.Writer(message.file)
	if signer != nil {
		defer signer.Close()
		body = io.MultiWriter(message.file, signer)
	}
	n, err := io.Copy(&lineEnds{w: body}, rest)
	switch {
	case err != nil:
		return refuseSite(submit.BadData, "the message has been cut off")
	case n > siteMessage-siteHeader:
		return refuseSite(submit.BadData, "the message is larger than %d MB", siteMessage>>20)
	}
	over, err := f.Tally.Take(int64(len(recipients)), Bound{fmt.Sprintf("account/%d", account.ID), account.Hourly},
		Bound{fmt.Sprintf("sites/%d", account.ID), definition.Unlimited})
	if err != nil {
		return err
	}
	if over != nil {
		exit := submit.NotNow
		if over.Wait == 0 {
			exit = submit.Refused
		}
		return refuseSite(exit, "%s", over.reason(int64(len(recipients))))
	}
	if refused := f.judgeOutgoing(envelope{user: account.Name, sender: sender, recipients: recipients},
		&message); refused != nil {
		return refuseSite(submit.Refused, "%s", refused.Msg)
	}
	signature := ""
	if signer != nil {
		if err := signer.Close(); err != nil {
			return err
		}
		signature = signer.Signature()
	}
	text, err := message.rewind()
	if err != nil {
		return err
	}
	return f.Inject(ctx, sender, recipients, io.MultiReader(strings.NewReader(signature), text))
}

// readHeader reads a header up to the empty line, with line ends as they travel.
func readHeader(in *bufio.Reader) ([]field, error) {
	var header []field
	for size := 0; ; {
		line, err := in.ReadString('\n')
		if size += len(line); size > siteHeader {
			return nil, errors.New("it is too long")
		}
		line = strings.TrimRight(line, "\r\n")
		switch {
		case line == "" && err == nil, errors.Is(err, io.EOF) && line == "":
			return header, nil
		case strings.ContainsFunc(line, isOdd):
			return nil, errors.New("it has octets that no header has")
		case (line[0] == ' ' || line[0] == '\t') && len(header) > 0:
			header[len(header)-1].Value += "\r\n" + line
		default:
			name, value, has := strings.Cut(line, ":")
			if !has || name == "" || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r > '~' }) {
				return nil, fmt.Errorf("%q is no field", line[:min(len(line), 60)])
			}
			header = append(header, field{name, strings.TrimLeft(value, " \t")})
		}
		if err != nil {
			return header, nil // a message without a body
		}
	}
}

// lineEnds writes lines with line ends as they travel (RFC 5321, section 2.3.8).
type lineEnds struct {
	w    io.Writer
	last byte
}

func (l *lineEnds) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p)+len(p)/32+1)
	for _, c := range p {
		if c == '\n' && l.last != '\r' {
			out = append(out, '\r')
		}
		out = append(out, c)
		l.last = c
	}
	if _, err := l.w.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// completeHeader adds what a message must have: an author, of whom the site has said nothing; a
// time; and a number.
func (f *Flow) completeHeader(ctx context.Context, account Account, header []field) ([]field, error) {
	has := func(name string) bool {
		return slices.ContainsFunc(header, func(h field) bool { return strings.EqualFold(h.Name, name) })
	}
	if !has("From") {
		domain, err := f.Tables.FirstDomain(ctx, account.ID)
		if errors.Is(err, ErrNone) {
			return nil, refuseSite(submit.Refused, "this account has no domain that mail may be sent for")
		}
		if err != nil {
			return nil, err
		}
		header = append(header, field{"From", "webmaster@" + domain})
	}
	if !has("Date") {
		header = append(header, field{"Date", f.Tally.Now().Format(time.RFC1123Z)})
	}
	if !has("Message-ID") {
		header = append(header, field{"Message-ID", "<" + rand.Text() + "@" + f.config.Load().Name + ">"})
	}
	return header, nil
}

// checkSiteSender refuses a message that names as its sender an address of none of the account's
// domains, and returns that of its author.
func (f *Flow) checkSiteSender(ctx context.Context, account Account, header []field) (string, error) {
	from, unknown, err := checkSender(header, func(address string) (bool, error) {
		return f.ownsAddress(ctx, account, address)
	})
	var foreign *mail.ForeignSender
	switch {
	case unknown != nil:
		return "", unknown
	case errors.As(err, &foreign):
		return "", refuseSite(submit.Refused, "%s: %s is of no domain of this account; send as an address of one, "+
			"such as noreply@, and put the visitor's into Reply-To", foreign.Field, foreign.Address)
	case err != nil:
		return "", refuseSite(submit.BadData, "%v", err)
	}
	return from, nil
}

func (f *Flow) ownsAddress(ctx context.Context, account Account, address string) (bool, error) {
	if !mail.IsAddress(strings.ToLower(address)) {
		return false, nil
	}
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	return f.Tables.OwnsDomain(ctx, account.ID, domain)
}

// siteRecipientsOf lists to whom a message goes.
func siteRecipientsOf(request submit.Request, header []field) ([]string, error) {
	var list []string
	add := func(address string) error {
		local, domain, has := strings.Cut(address, "@")
		if !has || !mail.IsAddress(local+"@"+strings.ToLower(domain)) {
			return refuseSite(submit.BadData, "%q is no address that a message can go to", address)
		}
		if !slices.Contains(list, address) {
			list = append(list, address)
		}
		return nil
	}
	for _, text := range request.Recipients {
		for one := range strings.SplitSeq(text, ",") {
			if err := add(strings.Trim(strings.TrimSpace(one), "<>")); err != nil {
				return nil, err
			}
		}
	}
	for _, h := range header {
		if !request.FromFields || !slices.ContainsFunc([]string{"To", "Cc", "Bcc"},
			func(name string) bool { return strings.EqualFold(h.Name, name) }) || strings.TrimSpace(h.Value) == "" {
			continue
		}
		parsed, err := netmail.ParseAddressList(unfold(h.Value))
		if err != nil {
			return nil, refuseSite(submit.BadData, "the field %s cannot be read", h.Name)
		}
		for _, a := range parsed {
			if err := add(a.Address); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case len(list) == 0:
		return nil, refuseSite(submit.BadData, "the message goes to nobody")
	case len(list) > siteRecipients:
		return nil, refuseSite(submit.BadData, "a message goes to %d recipients at most", siteRecipients)
	}
	return list, nil
}
