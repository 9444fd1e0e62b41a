package main

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/smtp"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/mailtest"
	"victualler/internal/mailflow"
)

//go:embed mail.sh
var mailScript string

const (
	// messages are delivered for the throughput, over as many connections as senders.
	messages, senders = 1000, 4
	// fullServer is how many mailboxes are on a server that is full.
	fullServer = 10_000
	// decisions are asked for, over as many connections as senders.
	decisions = 20_000
	boxWord   = "tidal-barnacle-2741"
)

// mail measures mailboxes, delivery and decisions on the way of messages, against a server that is
// set up by hand.
func (b *bench) mail(ctx context.Context, say func(string), rounds int) ([]row, error) {
	if _, err := b.script.Exec(ctx, "sh", "-ec", mailScript, "sh", "setup", "hand.example"); err != nil {
		return nil, err
	}
	name := "mx.bench.example"
	if err := b.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/skua",
		Body: api.ServerChange{HostName: &name}}, nil); err != nil {
		return nil, err
	}
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "post", Limits: plans.Limits{
		plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(1), plans.PHPWorkers: plans.Of(1),
		plans.Mailboxes: plans.Unlimited, plans.MailboxSize: plans.Unlimited, plans.SendsPerHour: plans.Unlimited},
		Features: plans.Features{"mail": true}}, nil); err != nil {
		return nil, err
	}
	if err := b.openWith(ctx, "letters.example", "post"); err != nil {
		return nil, err
	}
	say("mailboxes through the service and by hand, in turn")
	empty, byHand, err := b.addBoxes(ctx, rounds, "a")
	if err != nil {
		return nil, err
	}
	rows := []row{compare("mailbox, from call to first sign-in; the same edits of files", empty, byHand,
		func(r float64) bool { return r <= 1.5 }, "at most 1.5")}

	say(fmt.Sprintf("delivering %d messages", messages))
	ours, err := b.deliver(ctx, b.ours, "a1@letters.example", "/home/.mail/*/letters.example/a1/Maildir")
	if err != nil {
		return nil, err
	}
	theirs, err := b.deliver(ctx, b.script, "a1@hand.example", "/srv/mail/a1@hand.example/Maildir")
	if err != nil {
		return nil, err
	}
	rows = append(rows, perSecond("messages into a mailbox, per second", ours, theirs))

	say(fmt.Sprintf("%d mailboxes on the server", fullServer))
	for k := range fullServer / 1000 {
		domain := fmt.Sprintf("full%d.example", k)
		if err := b.openWith(ctx, domain, "post"); err != nil {
			return nil, err
		}
		var in api.NewMailboxes
		for n := range 1000 {
			in.Mailboxes = append(in.Mailboxes, api.NewMailbox{Address: fmt.Sprintf("box%d@%s", n, domain)})
		}
		var added api.MailboxesAdded
		if err := b.Client.Post(ctx, "/accounts/"+domain+"/mailboxes/many", in, &added); err != nil {
			return nil, err
		}
		if err := b.finished(ctx, added.Operation); err != nil {
			return nil, err
		}
	}
	full, _, err := b.addBoxes(ctx, rounds, "b")
	if err != nil {
		return nil, err
	}
	rows = append(rows, compare(fmt.Sprintf("mailbox beside %d others; the empty server", fullServer), full, empty,
		func(r float64) bool { return r <= 1.2 }, "at most 1.2"))
	say(fmt.Sprintf("%d decisions", decisions))
	decided, err := policies()
	return append(rows, decided...), err
}

// openWith opens an account on a plan.
func (b *bench) openWith(ctx context.Context, domain, plan string) error {
	var opening api.Opening
	if err := b.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: domain, Plan: plan, Customer: "Bench",
		Server: "skua"}, &opening); err != nil {
		return err
	}
	return b.finished(ctx, opening.Operation)
}

// addBoxes adds mailboxes in turn, and returns how long it took until their holders could sign in.
func (b *bench) addBoxes(ctx context.Context, rounds int, prefix string) (ours, theirs time.Duration, err error) {
	var all, byHand []time.Duration
	for n := range rounds + 1 { // the first of each warms up
		begun := time.Now()
		box := fmt.Sprintf("%s%d@letters.example", prefix, n)
		var added api.MailboxChanged
		if err := b.Client.Post(ctx, "/accounts/letters.example/mailboxes", api.NewMailbox{Address: box,
			Password: boxWord}, &added); err != nil {
			return 0, 0, err
		}
		// Whoever tries before has to wait: Dovecot answers a wrong sign-in late.
		if err := b.finished(ctx, added.Operation); err != nil {
			return 0, 0, err
		}
		if err := signIn(ctx, b.ours, box); err != nil {
			return 0, 0, err
		}
		all = append(all, time.Since(begun))
		// Dovecot sees that a file has changed by its time, in seconds.
		time.Sleep(1100 * time.Millisecond)
		begun = time.Now()
		box = fmt.Sprintf("%s%d@hand.example", prefix, n)
		if _, err := b.script.Exec(ctx, "sh", "-ec", mailScript, "sh", "add", box, boxWord); err != nil {
			return 0, 0, err
		}
		if err := signIn(ctx, b.script, box); err != nil {
			return 0, 0, err
		}
		byHand = append(byHand, time.Since(begun))
	}
	return median(all[1:]), median(byHand[1:]), nil
}

// signIn signs in until it works.
func signIn(ctx context.Context, server *lab.Server, box string) error {
	for {
		c, err := mailtest.DialIMAP(server.Address)
		if err == nil {
			_, err = c.Ask(fmt.Sprintf("LOGIN %q %q", box, boxWord))
			c.Close()
			if err == nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return errors.Join(ctx.Err(), err)
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// deliver sends messages into a mailbox until all are there, and returns how many that are in a
// second.
func (b *bench) deliver(ctx context.Context, server *lab.Server, box, maildir string) (float64, error) {
	text := []byte("From: a@harbourmail.test\r\nTo: " + box + "\r\nSubject: a message\r\n\r\n" +
		strings.Repeat("A line of a letter from the island.\r\n", 130))
	begun := time.Now()
	errs := make([]error, senders)
	var group sync.WaitGroup
	for n := range senders {
		group.Go(func() {
			c, err := smtp.Dial(net.JoinHostPort(server.Address.String(), "25"))
			for k := 0; err == nil && k < messages/senders; k++ {
				if err = errors.Join(c.Mail("a@harbourmail.test"), c.Rcpt(box)); err != nil {
					break
				}
				w, failed := c.Data()
				if err = failed; err == nil {
					_, err = w.Write(text)
					err = errors.Join(err, w.Close())
				}
			}
			errs[n] = err
		})
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return 0, err
	}
	for {
		out, err := server.Exec(ctx, "sh", "-c", "find "+maildir+"/new "+maildir+"/cur -type f 2>/dev/null | wc -l")
		if err != nil {
			return 0, err
		}
		if n, _ := strconv.Atoi(strings.TrimSpace(out)); n >= messages {
			return messages / time.Since(begun).Seconds(), nil
		}
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// perSecond compares how much is done in a second: more is better.
func perSecond(what string, ours, theirs float64) row {
	return row{what, fmt.Sprintf("%.0f", ours), fmt.Sprintf("%.0f", theirs), fmt.Sprintf("%.2f", ours/theirs),
		"at least 0.7", ours/theirs >= 0.7}
}

// policies asks for decisions, and a server of the same protocol that decides nothing.
func policies() ([]row, error) {
	dir, err := os.MkdirTemp("", "victualler-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	decide, stop, err := mailflow.Trial(dir, decisions)
	if err != nil {
		return nil, err
	}
	defer stop()
	ours, oursSlow, err := asked(filepath.Join(dir, "ours"), decide)
	if err != nil {
		return nil, err
	}
	theirs, theirsSlow, err := asked(filepath.Join(dir, "nothing"), mailflow.DecideNothing)
	if err != nil {
		return nil, err
	}
	slow := row{"decision, p99", us(oursSlow), us(theirsSlow), fmt.Sprintf("%.2f",
		float64(oursSlow)/float64(theirsSlow)),
		"", true}
	r := perSecond("decisions about sending, per second; a server that decides nothing", ours, theirs)
	return []row{r, slow}, nil
}

// asked asks a server of Postfix's policy protocol, and returns how many answers came in a second,
// and how long the slowest of a hundred took.
func asked(path string, serve func(net.Listener) error) (perSecond float64, slow time.Duration, err error) {
	l, err := net.Listen("unix", path)
	if err != nil {
		return 0, 0, err
	}
	defer l.Close()
	go serve(l)
	took := make([][]time.Duration, senders)
	errs := make([]error, senders)
	var group sync.WaitGroup
	begun := time.Now()
	for n := range senders {
		group.Go(func() {
			conn, err := net.Dial("unix", path)
			if err != nil {
				errs[n] = err
				return
			}
			defer conn.Close()
			buffer := make([]byte, 256)
			for range decisions / senders {
				at := time.Now()
				_, err1 := fmt.Fprint(conn, "request=smtpd_access_policy\nprotocol_state=END-OF-MESSAGE\n"+
					"sasl_username=anna@boats.example\nrecipient_count=1\nsender=anna@boats.example\n\n")
				k, err2 := conn.Read(buffer)
				if errs[n] = errors.Join(err1, err2); errs[n] != nil {
					return
				}
				if answer := string(buffer[:k]); answer != "action=DUNNO\n\n" {
					errs[n] = fmt.Errorf("answered %q", answer)
					return
				}
				took[n] = append(took[n], time.Since(at))
			}
		})
	}
	group.Wait()
	all := time.Since(begun)
	var each []time.Duration
	for _, list := range took {
		each = append(each, list...)
	}
	if err := errors.Join(errs...); err != nil {
		return 0, 0, err
	}
	return decisions / all.Seconds(), percentile(each, 99), nil
}
