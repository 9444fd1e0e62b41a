package main

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
)

var outcomes = []string{"delivered", "forwarded", "kept", "waiting", "failed", "refused"}

func messageCommands() []command {
	return []command{
		{noun: "message", verb: "rehearse", args: "DOMAIN", run: rehearseMail,
			flags: []flagInfo{inAccountFlag},
			short: "See whether others would take the messages of a domain",
			long: "Looks at what other servers look at: who takes its mail, who may send it, its signatures, the " +
				"names and the certificate of its server."},
		{noun: "message", verb: "list", short: "List what became of messages, newest first", list: true, usual: 30,
			long: "Each recipient of a message has a line. It is known for 30 days.",
			flags: []flagInfo{{name: "account", value: "ACCOUNT", usage: "only those from and to this account"},
				{name: "from", value: "ADDRESS", usage: "only those from this address"},
				{name: "to", value: "ADDRESS", usage: "only those to this address"},
				{name: "id", value: "MESSAGE-ID", usage: "only those with this Message-ID"},
				{name: "outcome", value: "OUTCOME", usage: orList(outcomes), values: outcomes},
				{name: "since", value: "DATE", usage: "only those that came since this day or moment"},
				{name: "until", value: "DATE", usage: "only those that came before this day or moment"}},
			run: listMessages},
		{noun: "message", verb: "sending", list: true, run: listSending,
			short: "Show what became of what was sent to others within a day",
			flags: []flagInfo{{name: "by", value: "account|destination", values: []string{"account", "destination"},
				usage: "by whose it was, or by where it went; by account otherwise"}}},
		{noun: "message", verb: "show", args: "NUMBER", short: "Show what became of a message for one recipient",
			run: showMessage},
	}
}

func listSending(ctx context.Context, c *call) error {
	var out api.Sending
	if err := c.client.Get(ctx, "/sending", nil, &out); err != nil {
		return err
	}
	if c.value("by") == "destination" {
		return printList(c, out.Destinations, false, "nothing was sent within a day",
			[]column[api.SendingDestination]{
				col("DESTINATION", 0, func(d api.SendingDestination) any { return d.Domain }),
				col("TAKEN", 0, func(d api.SendingDestination) any { return d.Delivered }),
				col("CAME BACK", 0, func(d api.SendingDestination) any { return d.Failed }),
				col("WAITING", 0, func(d api.SendingDestination) any { return d.Waiting }),
				col("LAST SAID", 0, func(d api.SendingDestination) any { return d.Reply }),
			})
	}
	return printList(c, out.Accounts, false, "nothing was sent within a day", []column[api.SendingAccount]{
		col("ACCOUNT", 0, func(a api.SendingAccount) any { return a.Account }),
		col("DOMAIN", 1, func(a api.SendingAccount) any { return a.Domain }),
		col("SERVER", 1, func(a api.SendingAccount) any { return a.Server }),
		col("TAKEN", 0, func(a api.SendingAccount) any { return a.Delivered }),
		col("CAME BACK", 0, func(a api.SendingAccount) any { return a.Failed }),
		col("WAITING", 0, func(a api.SendingAccount) any { return a.Waiting }),
		col("STOPPED", 0, func(a api.SendingAccount) any { return a.Stopped }),
	})
}

func rehearseMail(ctx context.Context, c *call) error {
	account, err := c.accountWith(ctx, c.args[0])
	if err != nil {
		return err
	}
	var out api.MailRehearsal
	if err := c.client.Get(ctx, accountPath(account)+"/mail-rehearsal", url.Values{"domain": {c.args[0]}},
		&out); err != nil {
		return err
	}
	g := rows("CHECK|RIGHT|WHAT|WHAT TO DO")
	wrong := 0
	for _, f := range out.Findings {
		g.add(f.Check, f.Right, f.Says, f.Do)
		if !f.Right {
			wrong++
		}
	}
	err = c.show(out, g, func() error {
		for _, f := range out.Findings {
			result := map[bool]string{true: "right", false: "wrong"}[f.Right]
			beside := strings.Repeat(" ", len("reverse  right  "))
			c.hanging(pad(f.Check, len("reverse"), false)+"  "+result+"  ", beside, f.Says)
			if f.Do != "" {
				c.hanging(beside+"→ ", beside+"  ", f.Do)
			}
		}
		return nil
	})
	if err == nil && wrong > 0 {
		return fmt.Errorf("%d of %d things are wrong", wrong, len(out.Findings))
	}
	return err
}

func listMessages(ctx context.Context, c *call) error {
	query := c.filters("account", "outcome")
	for name, flag := range map[string]string{"sender": "from", "recipient": "to", "message_id": "id"} {
		if text := c.value(flag); text != "" {
			query.Set(name, text)
		}
	}
	if err := c.moments(query, "since", "until"); err != nil {
		return err
	}
	all, more, err := collect(ctx, c, "/messages", query, func(p api.MessagePage) ([]api.Message, string) {
		return p.Messages, p.Next
	})
	if err != nil {
		return err
	}
	return printList(c, all, more, c.filtered("no messages", "account", "outcome", "from", "to", "id", "since",
		"until"),
		[]column[api.Message]{
			col("NUMBER", 2, func(m api.Message) any { return m.ID }),
			col("CAME", 0, func(m api.Message) any { return m.CameAt }),
			col("FROM", 0, func(m api.Message) any { return senderWords(cmp.Or(m.FirstSender, m.Sender)) }),
			col("TO", 0, func(m api.Message) any { return m.Recipient }),
			col("OUTCOME", 0, func(m api.Message) any { return m.Outcome }),
			col("WHAT BECAME OF IT", 1, func(m api.Message) any { return m.Says }),
		})
}

// senderWords are for messages that tell of failures, which have no sender.
func senderWords(sender string) string {
	if sender == "" {
		return "(failure notice)"
	}
	return sender
}

func showMessage(ctx context.Context, c *call) error {
	if _, err := strconv.ParseInt(c.args[0], 10, 64); err != nil {
		return usageError{fmt.Sprintf("%q is no number of a message; see: victualler message list", c.args[0])}
	}
	var m api.Message
	if err := c.client.Get(ctx, "/messages/"+c.args[0], nil, &m); err != nil {
		return err
	}
	size := ""
	if m.Size > 0 {
		size = fmt.Sprintf("%d bytes", m.Size)
	}
	g := pairs("from", senderWords(m.Sender), "first sent by", m.FirstSender, "to", m.Recipient, "what became of it",
		m.Says, "outcome", m.Outcome,
		"came", local(m.CameAt), "last", local(m.At), "tries", strconv.FormatInt(m.Tries, 10),
		"delivered to", m.DeliveredTo, "signed in as", m.SignIn, "brought by", m.Client, "asked", m.Relay,
		"answer", m.Reply, "code", m.Code, "size", size, "spam score", m.Score, "folder", m.Folder,
		"Message-ID", m.MessageID, "server", m.Server,
		"name in the queue", m.Queue, "account of the sender", m.FromAccount, "account of the recipient", m.ToAccount)
	return c.show(m, g, func() error {
		c.table(g)
		return nil
	})
}

func queueCommands() []command {
	change := func(verb, short, done string, asks bool) command {
		flags := []flagInfo{}
		if asks {
			flags = append(flags, yesFlag)
		}
		return command{noun: "queue", verb: verb, args: "SERVER NAME…", short: short, preview: true, flags: flags,
			run: func(ctx context.Context, c *call) error {
				body := api.QueueChange{Server: c.args[0], Messages: c.args[1:], Do: verb}
				if asks {
					if err := c.confirm(ctx, fmt.Sprintf("Remove %d message(s) that wait on %s?", len(body.Messages),
						body.Server)); err != nil {
						return err
					}
				}
				var changed api.QueueChanged
				previewed, err := c.change(ctx, http.MethodPost, "/queue", body, &changed)
				if err != nil || previewed {
					return err
				}
				c.say("%s: %d", done, changed.Messages)
				return nil
			}}
	}
	return []command{
		{noun: "queue", verb: "list", short: "List the messages that wait, oldest first", list: true,
			flags: []flagInfo{{name: "account", value: "ACCOUNT", usage: "only those of this account"},
				{name: "server", value: "LABEL", usage: "only those on this server"}},
			run: listQueue},
		{noun: "queue", verb: "resume", args: "ACCOUNT", preview: true,
			short: "Have an account send again that was stopped",
			long: "An account of which too many messages come back is stopped, and what it sends waits. See first " +
				"what came back: victualler message list --account ACCOUNT --outcome failed",
			run: func(ctx context.Context, c *call) error {
				var done api.SendingReleased
				previewed, err := c.change(ctx, http.MethodPost, accountPath(c.args[0])+"/release-sending", nil, &done)
				if err != nil || previewed {
					return err
				}
				c.say("%s sends again; what waited goes out", done.Account)
				return nil
			}},
		change("retry", "Try messages again that wait", "tried again", false),
		change("hold", "Have messages wait until they are released", "held", false),
		change("release", "Release messages that are held", "released", false),
		change("remove", "Remove messages that wait, without telling their senders", "removed", true),
	}
}

func listQueue(ctx context.Context, c *call) error {
	var queue api.Queue
	if err := c.client.Get(ctx, "/queue", c.filters("account", "server"), &queue); err != nil {
		return err
	}
	for _, label := range queue.Silent {
		c.note(label + " does not answer; its messages are missing here")
	}
	return printList(c, queue.Messages, queue.More, c.filtered("no message waits", "account", "server"),
		[]column[api.QueuedMessage]{
			col("SERVER", 0, func(m api.QueuedMessage) any { return m.Server }),
			col("NAME", 0, func(m api.QueuedMessage) any { return m.Queue }),
			col("CAME", 0, func(m api.QueuedMessage) any { return m.CameAt }),
			col("FROM", 0, func(m api.QueuedMessage) any { return senderWords(m.Sender) }),
			col("TO", 0, func(m api.QueuedMessage) any {
				var to []string
				for _, r := range m.Recipients {
					to = append(to, r.Address)
				}
				return strings.Join(to, ", ")
			}),
			col("HELD", 1, func(m api.QueuedMessage) any { return m.Held }),
			col("WHY", 1, func(m api.QueuedMessage) any {
				for _, r := range m.Recipients {
					if r.Reason != "" {
						return r.Reason
					}
				}
				return ""
			}),
		})
}
