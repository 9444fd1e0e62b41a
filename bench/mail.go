package main

import (
	"cmp"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"slices"
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

	"github.com/jackc/pgx/v5"
)

//go:embed mail.sh
var mailScript string

const (
	// messages are delivered for the throughput, over as many connections as senders.
	messages, senders = 1000, 4
	// fullServer is how many mailboxes are on a server that is full.
	fullServer = 10_000
	// decisions are asked for, over as many connections as senders.
	decisions    = 20_000
	policyRounds = 9 // of as many decisions
	boxWord      = "tidal-barnacle-2741"
)

// mail measures mailboxes, delivery and decisions on the way of messages, against a server that is
// set up by hand.
func (b *bench) mail(ctx context.Context, say func(string), rounds int) ([]row, error) {
	if _, err := b.script.Exec(ctx, "sh", "-ec", mailScript, "sh", "setup", "hand.example"); err != nil {
		return nil, err
	}
	// The server that is set up by hand has no spam filter either.
	name, without := "mx.bench.example", false
	if err := b.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/skua",
		Body: api.ServerChange{HostName: &name, SpamFilter: &without}}, nil); err != nil {
		return nil, err
	}
	if err := b.Client.Post(ctx, "/plans", api.NewPlan{Name: "post", Limits: plans.Limits{
		plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(1), plans.PHPWorkers: plans.Of(1),
		plans.Mailboxes: plans.Unlimited, plans.MailboxSize: plans.Unlimited, plans.SendsPerHour: plans.Unlimited},
		Features: plans.Features{"mail": true}}, nil); err != nil {
		return nil, err
	}
	if err := b.openWith(ctx, "postbags.example", "post"); err != nil {
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
	ours, err := b.deliver(ctx, b.ours, "a1@postbags.example", "/home/.mail/*/postbags.example/a1/Maildir")
	if err != nil {
		return nil, err
	}
	theirs, err := b.deliver(ctx, b.script, "a1@hand.example", "/srv/mail/a1@hand.example/Maildir")
	if err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%.0f messages per second, %.0f by hand", ours, theirs))
	rows = append(rows, perSecond("messages into a mailbox, per second; the same programs, with quota, filters and "+
		"index, without "+
		"ours", ours, theirs))

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
	if err != nil {
		return nil, err
	}
	say(fmt.Sprintf("%d messages in the log", logged))
	found, err := b.searchLog(ctx)
	return append(append(rows, decided...), found...), err
}

// logged is how many messages the log knows that is searched.
const logged = 5_000_000

// searchLog looks for messages among very many, in every way that people can.
func (b *bench) searchLog(ctx context.Context) ([]row, error) {
	db, err := pgx.Connect(ctx, b.DatabaseURL())
	if err != nil {
		return nil, err
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx, `insert into mail_log (server_id, number, queue, came_at, at, sender, recipient, delivered_to,
			message_id, size, client, sign_in, outcome, code, relay, reply, tries, from_account)
		select (select min(id) from servers), 1000000 + n, '4' || n, now() - interval '30 days' + n * interval '0.5 seconds',
			now(), 's' || n % 20000 || '@harbourmail.test', 'r' || n % 30000 || '@site' || n % 5000 || '.example', '',
			'<m' || n || '@harbourmail.test>', 1000, '192.0.2.1', '',
			case when n % 50 = 0 then 'failed' when n % 5001 = 1 then 'waiting' else 'delivered' end, '2.0.0', 'mx', '250 ok',
			1, case when n % 1000 = 0 then (select min(id) from accounts) end
		from generate_series(1, $1::bigint) n`, logged); err != nil {
		return nil, err
	}
	if _, err := db.Exec(ctx, "vacuum analyze mail_log"); err != nil {
		return nil, err
	}
	day := func(ago int) string { return time.Now().AddDate(0, 0, -ago).UTC().Format(time.RFC3339) }
	slowest, which := time.Duration(0), ""
	for _, query := range []url.Values{{}, {"sender": {"s777@harbourmail.test"}},
		{"sender": {"nobody@harbourmail.test"}},
		{"recipient": {"r99@site99.example"}}, {"message_id": {"<m4321@harbourmail.test>"}}, {"outcome": {"failed"}},
		{"outcome": {"waiting"}}, {"outcome": {"refused"}}, {"since": {day(29)}, "until": {day(28)}},
		{"account": {"postbags.example"}}, {"account": {"postbags.example"}, "outcome": {"failed"}},
		{"sender": {"s0@harbourmail.test"}, "outcome": {"failed"}, "until": {day(20)}}} {
		var all []time.Duration
		for range 9 {
			begun := time.Now()
			if err := b.Client.Get(ctx, "/messages", query, &api.MessagePage{}); err != nil {
				return nil, err
			}
			all = append(all, time.Since(begun))
		}
		if took := median(all); took > slowest {
			slowest, which = took, query.Encode()
		}
	}
	return []row{{what: fmt.Sprintf("slowest search among %d messages (%s)", logged, cmp.Or(which, "all")),
		ours: slowest.Round(time.Millisecond / 10).String(), target: "below 100 " +
			"ms", met: slowest < 100*time.Millisecond}}, nil
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
		box := fmt.Sprintf("%s%d@postbags.example", prefix, n)
		var added api.MailboxChanged
		if err := b.Client.Post(ctx, "/accounts/postbags.example/mailboxes", api.NewMailbox{Address: box,
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
	decide, stop, err := mailflow.Trial(dir, decisions*policyRounds)
	if err != nil {
		return nil, err
	}
	defer stop()
	// One round takes a fifth of a second: whatever else the machine does shows in it.
	var ours, theirs []float64
	var oursSlow, theirsSlow []time.Duration
	for n := range policyRounds {
		rate, slow, err := asked(filepath.Join(dir, fmt.Sprint("ours", n)), decide)
		if err != nil {
			return nil, err
		}
		ours, oursSlow = append(ours, rate), append(oursSlow, slow)
		if rate, slow, err = asked(filepath.Join(dir, fmt.Sprint("nothing", n)), mailflow.DecideNothing); err != nil {
			return nil, err
		}
		theirs, theirsSlow = append(theirs, rate), append(theirsSlow, slow)
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	middle := policyRounds / 2
	slow, fast := median(oursSlow), median(theirsSlow)
	return []row{perSecond("decisions about sending, per second; a server that decides nothing", ours[middle],
		theirs[middle]), {"decision, p99", us(slow), us(fast), fmt.Sprintf("%.2f", float64(slow)/float64(fast)), "",
		true}}, nil
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
