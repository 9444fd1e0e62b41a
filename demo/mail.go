package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
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
}

// addresses are those beside them.
var addresses = map[string][]api.NewMailAddress{
	"coop": {{Address: "accounts@ternisland.example", Targets: []string{"office"}},
		{Address: "committee@ternisland.example", Targets: []string{"hosting", "chair@harbourmail.test"}},
		{Address: "abuse@ternisland.example", Targets: []string{"hosting"}}},
	"trust": {{Address: "*@lighthousetrust.example", Targets: []string{"keeper"}},
		{Address: "visits@lighthousetrust.example", Targets: []string{"tours@harbourmail.test"}}},
}

// deliverTo adds the mailboxes and addresses of the island.
func deliverTo(ctx context.Context, c *client.Client) error {
	for account, list := range mailboxes {
		for _, box := range list {
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
	return nil
}

// mistyped is an address that does not exist.
const mistyped = "offcie@ternisland.example"

// letters are what people elsewhere have written to the island: from, to, subject.
var letters = [][3]string{
	{"mara@harbourmail.test", "office@ternisland.example", "Ferry times in winter"},
	{"bo@harbourmail.test", "accounts@ternisland.example", "Invoice 2026-118"},
	{"chair@harbourmail.test", "committee@ternisland.example", "Agenda for Thursday"},
	{"mara@harbourmail.test", mistyped, "Ferry times in winter"},
	{"wren@harbourmail.test", "keeper@lighthousetrust.example", "The lamp"},
	{"wren@harbourmail.test", "open-day@lighthousetrust.example", "When are you open?"},
	{"tours@harbourmail.test", "visits@lighthousetrust.example", "A party of twelve"},
}

// correspond delivers the letters, once.
func correspond(ctx context.Context, c *client.Client) error {
	var known api.MessagePage
	if err := c.Get(ctx, "/messages", url.Values{"limit": {"1"}}, &known); err != nil || len(known.Messages) > 0 {
		return err
	}
	var servers api.ServerList
	if err := c.Get(ctx, "/servers", nil, &servers); err != nil {
		return err
	}
	addresses := map[string]string{}
	for _, s := range servers.Servers {
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
		text := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\n\r\n%[3]s.\r\n", letter[0], letter[1],
			letter[2], time.Now().Format(time.RFC1123Z))
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
}

// notify has the sites of the island send their notices, once: run runs a command on a server.
func notify(ctx context.Context, run func(ctx context.Context, server string, argv ...string) (string, error)) error {
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
