package demo

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/smtp"
	"net/url"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
)

// mailboxes are those of the island, by account. Nobody has their passwords: who wants to look into
// one gives it another.
var mailboxes = map[string][]api.NewMailbox{
	"coop": {{Address: "hosting@ternisland.example"}, {Address: "office@ternisland.example"}},
	// Stored here, and passed on to a telephone as well.
	"trust": {{Address: "keeper@lighthousetrust.example", ForwardTo: []string{"keeper@harbourmail.test"}}},
	// On another server than the site.
	"news1": {{Address: "desk@ternislandnews.example", Server: "fulmar"}},
}

// addresses are those beside them.
var addresses = map[string][]api.NewMailAddress{
	"coop": {{Address: "accounts@ternisland.example", Targets: []string{"office"}},
		{Address: "committee@ternisland.example", Targets: []string{"hosting", "chair@harbourmail.test"}},
		{Address: "abuse@ternisland.example", Targets: []string{"hosting"}}},
	"trust": {{Address: "*@lighthousetrust.example", Targets: []string{"keeper"}},
		{Address: "visits@lighthousetrust.example", Targets: []string{"tours@harbourmail.test"}}},
}

// lists are those that go to many.
var lists = map[string][]api.NewDistributionList{
	"coop": {{Address: "members@ternisland.example", Name: "Members of the co-operative", Owners: []string{"hosting"},
		Members: []string{"hosting", "office", "mara@harbourmail.test", "bo@harbourmail.test",
			"chair@harbourmail.test"},
		Moderated: true, Footer: "You get this as a member of the Tern Island co-operative. Leave the list: {leave}"}},
}

// away is the mailbox whose holder is, and what whoever writes is told.
var away = struct {
	account, mailbox string
	reply            api.AbsenceReply
}{"trust", "keeper@lighthousetrust.example", api.AbsenceReply{Subject: "Away until the ferry runs again",
	Text: "I am on the mainland for the winter service of the lamp. Visits: visits@lighthousetrust.example."}}

// deliverTo adds the mailboxes, addresses and lists of the island. The keeper's mailbox has the
// password of the keeper.
func deliverTo(ctx context.Context, c *client.Client, passwords map[string]string) error {
	for account, list := range mailboxes {
		for _, box := range list {
			if box.Address == away.mailbox {
				box.Password = passwords["keeper"]
			}
			if err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/mailboxes", box, nil)); err != nil {
				return fmt.Errorf("mailbox %s: %w", box.Address, err)
			}
		}
	}
	for account, list := range addresses {
		for _, address := range list {
			if err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/addresses", address, nil)); err != nil {
				return fmt.Errorf("address %s: %w", address.Address, err)
			}
		}
	}
	for account, all := range lists {
		for _, list := range all {
			if err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/lists", list, nil)); err != nil {
				return fmt.Errorf("list %s: %w", list.Address, err)
			}
		}
	}
	return nil
}

// mistyped is an address that does not exist.
const mistyped = "offcie@ternisland.example"

// winner is what everybody gets and nobody wants.
const winner = "MIME-Version: 1.0\r\nContent-Type: text/html\r\nX-Mailer: The Bat!\r\n" +
	"Reply-To: claims@elsewhere.test\r\n" +
	"\r\n<html>CONGRATULATIONS you are a winner!!! 100% FREE, dear friend. http://192.0.2.4/claim Transfer the fee " +
	"for your inheritance to this bank account today, urgent.\r\n"

// letters are what people elsewhere have written to the island: from, to, subject, and what follows
// the header's first fields.
var letters = [][4]string{
	{"mara@harbourmail.test", "office@ternisland.example", "Ferry times in winter"},
	{"bo@harbourmail.test", "accounts@ternisland.example", "Invoice 2026-118"},
	{"chair@harbourmail.test", "committee@ternisland.example", "Agenda for Thursday"},
	{"mara@harbourmail.test", mistyped, "Ferry times in winter"},
	{"wren@harbourmail.test", "keeper@lighthousetrust.example", "The lamp"},
	{"wren@harbourmail.test", "open-day@lighthousetrust.example", "When are you open?"},
	{"tours@harbourmail.test", "visits@lighthousetrust.example", "A party of twelve"},
	{"mara@harbourmail.test", "members@ternisland.example", "Minutes of the autumn meeting"},
	{"wren@harbourmail.test", "members@ternisland.example", "A dinghy for sale"},
	{"lottery@elsewhere.test", "office@ternisland.example", "Re: You have WON", winner},
	{"lottery@elsewhere.test", "keeper@lighthousetrust.example", "Re: You have WON", winner},
}

// correspond delivers the letters, once, and before them says who is away.
func correspond(ctx context.Context, c *client.Client, run Runner) error {
	var known api.MessagePage
	if err := c.Get(ctx, "/messages", url.Values{"limit": {"1"}}, &known); err != nil || len(known.Messages) > 0 {
		return err
	}
	path := "/accounts/" + away.account + "/mailboxes/" + away.mailbox
	if err := c.Do(ctx, client.Call{Method: http.MethodPatch, Path: path, Body: api.MailboxChange{Reply: &away.reply}},
		nil); err != nil {
		return err
	}
	var servers api.ServerList
	if err := c.Get(ctx, "/servers", nil, &servers); err != nil {
		return err
	}
	addresses := map[string]string{}
	for _, s := range servers.Servers {
		if err := filters(ctx, c, s, run); err != nil {
			return err
		}
		if len(s.Addresses) > 0 {
			addresses[s.HostName] = s.Addresses[0]
		}
	}
	taking := map[string]string{}
	for account := range mailboxes {
		var list api.MailboxList
		if err := c.Get(ctx, "/accounts/"+account+"/mailboxes", nil, &list); err != nil {
			return err
		}
		for _, box := range list.Mailboxes {
			taking[box.Domain] = net.JoinHostPort(addresses[list.Server], "25")
		}
	}
	for _, letter := range letters {
		_, domain, _ := strings.Cut(letter[1], "@")
		text := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%s>\r\n%s", letter[0],
			letter[1],
			letter[2], time.Now().Format(time.RFC1123Z), rand.Text()+"@"+letter[0][strings.Index(letter[0], "@")+1:],
			cmp.Or(letter[3], "\r\n"+letter[2]+".\r\n"))
		// What was added a moment ago may take another one; and one address is mistyped.
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(500 * time.Millisecond) {
			err := post(taking[domain], letter[0], letter[1], text)
			if err == nil || letter[1] == mistyped && strings.HasPrefix(err.Error(), "550") {
				break
			}
			if time.Now().After(end) {
				return fmt.Errorf("a letter to %s: %w", letter[1], err)
			}
		}
	}
	return nil
}

// filters waits until a server tells spam from other messages: the filter takes a while to begin.
func filters(ctx context.Context, c *client.Client, s api.Server, run Runner) error {
	if !s.SpamFilter || s.HostName == "" {
		return nil
	}
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(500 * time.Millisecond) {
		_, err := run(ctx, s.Label, "curl", "-sf", "--max-time", "2", "--unix-socket",
			"/var/lib/victualler/filter/judge", "http://judge/ping")
		if err == nil { // the next sweep would see it a minute later
			return c.Post(ctx, "/servers/"+s.Label+"/sweep", nil, nil)
		}
		if time.Now().After(end) {
			return err
		}
	}
}

// post hands a letter to a mail server, as another one does.
func post(server, from, to, text string) error {
	c, err := smtp.Dial(server)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.Mail(from); err != nil {
		return err
	}
	if err := c.Rcpt(to); err != nil {
		return err
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write([]byte(text)); err != nil {
		return err
	}
	return errors.Join(w.Close(), c.Quit())
}

// notices are what sites send: those that arrive, one that comes back, and one that waits.
var notices = []struct{ account, to, subject string }{
	{"coop", "mara@harbourmail.test", "Your account is ready"},
	{"coop", "refused@harbourmail.test", "Your account is ready"},
	{"coop", "later@harbourmail.test", "Maintenance on Sunday"},
	{"trust", "tours@harbourmail.test", "Your visit is booked"},
	{"news1", "wren@harbourmail.test", "Your letter to the editor"}, // by another server than the site's
}

// notify has the sites of the island send their notices, once: run runs a command on a server.
func notify(ctx context.Context, run Runner) error {
	for _, n := range notices {
		for _, server := range []string{"skua", "fulmar"} {
			if _, err := run(ctx, server, "test", "-d", "/home/"+n.account); err != nil {
				continue // it is on another one
			}
			// A file in the home says that it was sent.
			out, err := run(ctx, server, "victualler-sandbox", "enter", n.account, "bash", "-ec", fmt.Sprintf(
				`test -e ~/tmp/notified-%[1]s || { printf 'To: %[1]s\nSubject: %[2]s\n\n%[2]s.\n' | /usr/sbin/sendmail -t -i
				touch ~/tmp/notified-%[1]s; }`, n.to, n.subject))
			if err != nil {
				return fmt.Errorf("a notice of %s to %s: %w: %s", n.account, n.to, err, out)
			}
		}
	}
	return nil
}
