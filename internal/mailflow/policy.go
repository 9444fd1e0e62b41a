package mailflow

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"victualler/internal/hosting/mail"
)

// longestRequest bounds a request of the policy protocol in bytes.
const longestRequest = 64 << 10

// ServePolicy answers Postfix's access policy delegation until the listener is closed: whether a
// message may be sent, when all of it is there and before it is taken; and whether a message that
// comes back was passed on from here.
func (f *Flow) ServePolicy(l net.Listener) error {
	return serve(l, func(conn net.Conn) error {
		in := bufio.NewReader(conn)
		request := map[string]string{}
		for {
			if err := readRequest(in, request); err != nil {
				return err
			}
			// What it has to wait for has limits of its own: a table that is being written to.
			answer := f.decide(context.Background(), request)
			if _, err := io.WriteString(conn, "action="+answer+"\n\n"); err != nil {
				return err
			}
		}
	})
}

// readRequest reads name=value lines up to an empty one, in place of the request before.
func readRequest(in *bufio.Reader, request map[string]string) error {
	clear(request)
	size := 0
	for {
		line, err := in.ReadSlice('\n')
		if err != nil {
			if errors.Is(err, bufio.ErrBufferFull) {
				err = errors.New("a line of a request is too long")
			}
			return err
		}
		if size += len(line); size > longestRequest {
			return errors.New("a request is too long")
		}
		text := strings.TrimRight(string(line), "\r\n")
		if text == "" {
			if len(request) == 0 {
				return io.ErrUnexpectedEOF
			}
			return nil
		}
		name, value, _ := strings.Cut(text, "=")
		request[name] = value
	}
}

// Answers of the policy protocol (access(5)).
const (
	proceed  = "DUNNO"
	notNow   = "451 4.3.0 this cannot be decided just now; try again later"
	noReturn = "550 5.1.1 there is no such address"
)

// decide answers a request.
func (f *Flow) decide(ctx context.Context, request map[string]string) string {
	switch request["protocol_state"] {
	case "RCPT":
		return f.decideReturn(request["recipient"], request["sender"])
	case "END-OF-MESSAGE":
		n, err := strconv.ParseInt(request["recipient_count"], 10, 64)
		if err != nil || n < 1 {
			return notNow
		}
		return f.decideSending(ctx, strings.ToLower(request["sasl_username"]), n)
	}
	return proceed
}

// decideReturn refuses what comes back and was never passed on.
func (f *Flow) decideReturn(recipient, sender string) string {
	local, _, _ := strings.Cut(recipient, "@")
	if !mail.IsReturn(local) {
		return proceed
	}
	if _, err := f.returns().Sender(local, f.Tally.Now()); err != nil {
		return noReturn
	}
	if sender != "" {
		return "550 5.7.1 messages that tell of failures alone come back this way, and they have no sender"
	}
	return proceed
}

// decideSending counts a message of a mailbox's holder, or refuses it.
func (f *Flow) decideSending(ctx context.Context, signIn string, recipients int64) string {
	box, err := f.Tables.Mailbox(ctx, signIn)
	if err != nil {
		f.Log.Error("sending is not decided", "mailbox", signIn, "error", err)
		return notNow
	}
	if box.Account.Silent {
		return "550 5.7.1 " + silence
	}
	over, err := f.Tally.Take(recipients, Bound{"mailbox/" + box.Address, box.Hourly},
		Bound{"account/" + strconv.FormatInt(box.Account.ID, 10), box.Account.Hourly})
	switch {
	case err != nil:
		f.Log.Error("sending is not counted", "mailbox", signIn, "error", err)
		return notNow
	case over != nil:
		return over.answer(recipients)
	case box.Account.Stopped:
		return "HOLD " + stopped
	}
	return proceed
}

// stopped is why messages wait.
const stopped = "too much of what this account has sent came back; messages wait until that has been looked into"

const silence = "sending is switched off for this account; ask whoever looks after it"

// answer is what a mail program is told, with the enhanced code of RFC 3463.
func (o *Over) answer(recipients int64) string {
	if o.Wait == 0 {
		return "550 5.7.1 " + o.reason(recipients)
	}
	return "450 4.7.1 " + o.reason(recipients)
}

func (o *Over) reason(recipients int64) string {
	whose := "this account"
	if address, is := strings.CutPrefix(o.Subject, "mailbox/"); is {
		whose = address
	}
	if o.Wait == 0 {
		return fmt.Sprintf("%s may send to %d recipients within an hour, and this message has %d", whose, o.Most,
			recipients)
	}
	return fmt.Sprintf("%s may send to %d recipients within an hour, and has sent to %d; try again in %d min", whose,
		o.Most, o.Used, int(o.Wait/time.Minute)+1)
}

// serve runs a session for each connection until the listener is closed.
func serve(l net.Listener, session func(net.Conn) error) error {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		go func() {
			defer conn.Close()
			_ = session(conn) // Postfix ends a connection when it likes, and asks again on another
		}()
	}
}
