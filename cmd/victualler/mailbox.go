package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func mailboxesPath(account string) string { return accountPath(account) + "/mailboxes" }

// mailboxPath is where a mailbox is found by its address alone: the account follows from its
// domain.
func (c *call) mailboxPath(ctx context.Context) (string, error) {
	account, err := c.accountOfAddress(ctx)
	return mailboxesPath(account) + "/" + url.PathEscape(c.args[0]), err
}

// accountOfAddress is the account with the domain of an address.
func (c *call) accountOfAddress(ctx context.Context) (string, error) {
	_, domain, has := strings.Cut(c.args[0], "@")
	if !has {
		return "", usageError{fmt.Sprintf("%q is no mail address; write it with its domain, such as "+
			"info@ternferries.example", c.args[0])}
	}
	return c.accountWith(ctx, domain)
}

func mailboxCommands() []command {
	size := flagInfo{name: "size", value: "SIZE",
		usage: "the most it may hold, such as 2G; as much as the account may give a mailbox otherwise"}
	sends := flagInfo{name: "sends-per-hour", value: "N",
		usage: "to how many recipients its holder may send within an hour; as many as the account may otherwise"}
	server := flagInfo{name: "server", value: "LABEL",
		usage: "with the first mailbox: the server that the account's mail is to be on; chosen otherwise"}
	forward := flagInfo{name: "forward-to", value: "ADDRESS,…", usage: "pass its messages on as well"}
	return []command{
		{noun: "mailbox", verb: "list", args: "ACCOUNT", short: "List the mailboxes of an account", list: true,
			run: listMailboxes},
		{noun: "mailbox", verb: "add", args: "ADDRESS", short: "Add a mailbox", preview: true, waits: true,
			long: "Without --generate or --password-stdin, a password is asked for. Mail to ADDRESS with + and " +
				"anything before the @ reaches it, too.",
			flags: append([]flagInfo{inAccountFlag, size, forward, sends, server}, passwordFlags...), run: addMailbox},
		{noun: "mailbox", verb: "import", args: "ACCOUNT FILE", preview: true, waits: true,
			short: "Add the mailboxes of a file, all of them or none",
			long: "FILE is CSV with a heading: address, and as wanted password, size, forward_to (with semicolons " +
				"between them) and sends_per_hour; - is standard input. Mailboxes without a password get one, " +
				"which is printed once.",
			run: importMailboxes},
		{noun: "mailbox", verb: "change", args: "ADDRESS", short: "Change a mailbox", preview: true, waits: true,
			long: "--size 0 and --sends-per-hour 0 are as much as the account may, --junk-above 0 is what the " +
				"installation says; --forward-to none ends passing on.",
			flags: append([]flagInfo{inAccountFlag, size, forward, sends,
				{name: "junk-above", value: "POINTS", usage: "from which score of the spam filter on its messages go " +
					"to Junk, such as 4.5"},
				{name: "new-password", usage: "set another password; sessions end"},
				{name: "no-password", usage: "remove the password"},
				{name: "reply-file", value: "FILE", usage: "tell whoever writes the text of a file, once a week; " +
					"- is standard input"},
				{name: "reply-subject", value: "TEXT", usage: "the reply's subject; that of the message otherwise"},
				{name: "reply-from", value: "DATE", usage: "not before this day or moment"},
				{name: "reply-until", value: "DATE", usage: "not after this day or moment"},
				{name: "no-reply", usage: "tell nobody any more"}}, passwordFlags...),
			run: changeMailbox},
		{noun: "mailbox", verb: "show", args: "ADDRESS", short: "Show a mailbox, and what a mail program needs",
			flags: []flagInfo{inAccountFlag}, run: showMailbox},
		{noun: "mailbox", verb: "profile", args: "ADDRESS", flags: []flagInfo{inAccountFlag}, stream: true,
			short: "Write a file by which telephones set up a mailbox to standard output",
			run: func(ctx context.Context, c *call) error {
				path, err := c.mailboxPath(ctx)
				if err != nil {
					return err
				}
				return c.client.Download(ctx, path+"/profile", nil, c.out)
			}},
		{noun: "mailbox", verb: "add-password", args: "ADDRESS PROGRAM", preview: true, waits: true,
			short: "Make a further password, for one program", flags: []flagInfo{inAccountFlag},
			long: "It is printed once, and can be removed by itself: a lost telephone does not make anybody type " +
				"another password everywhere.",
			run: func(ctx context.Context, c *call) error {
				path, err := c.mailboxPath(ctx)
				if err != nil {
					return err
				}
				var made api.ProgramPasswordAdded
				previewed, err := c.change(ctx, http.MethodPost, path+"/passwords",
					api.NewProgramPassword{Name: c.args[1]}, &made)
				if err != nil || previewed {
					return err
				}
				c.showPassword("password", made.Password)
				return c.startedIf(ctx, made.Operation)
			}},
		{noun: "mailbox", verb: "remove-password", args: "ADDRESS PROGRAM", preview: true, waits: true,
			short: "Take a program's password away; sessions end", flags: []flagInfo{inAccountFlag},
			run: func(ctx context.Context, c *call) error {
				path, err := c.mailboxPath(ctx)
				if err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, path+"/passwords/"+url.PathEscape(c.args[1]), nil)
			}},
		{noun: "mailbox", verb: "remove", args: "ADDRESS", short: "Remove a mailbox with all messages in it",
			preview: true, waits: true, flags: []flagInfo{inAccountFlag, yesFlag},
			run: func(ctx context.Context, c *call) error {
				path, err := c.mailboxPath(ctx)
				if err != nil {
					return err
				}
				if err := c.confirm(ctx, "Remove "+c.args[0]+" and all messages in it?"); err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, path, nil)
			}},
	}
}

func listMailboxes(ctx context.Context, c *call) error {
	var list api.MailboxList
	if err := c.client.Get(ctx, mailboxesPath(c.args[0]), nil, &list); err != nil {
		return err
	}
	if c.forPeople() && list.Server != "" {
		c.note(fmt.Sprintf("mail programs connect to %s: IMAP 993, POP3 995, sending 465, each with TLS; the sign-in "+
			"name is the address", list.Server))
		if list.Placement != "" {
			c.note("why there: " + list.Placement)
		}
	}
	if s := list.Suspension; c.forPeople() && s != nil {
		c.note(fmt.Sprintf("suspended: %s, since %s, by %s: %s", mailSuspended(s.Sending, s.Receiving), local(s.Since),
			s.By, s.Why))
	}
	return printList(c, list.Mailboxes, false, "no mailboxes; add one with: victualler mailbox add ADDRESS",
		[]column[api.Mailbox]{
			col("ADDRESS", 0, func(b api.Mailbox) any { return b.Unicode }),
			col("HOLDS AT MOST", 0, func(b api.Mailbox) any { return amountOf(b.Most, string(plans.Bytes)) }),
			col("PASSWORD", 0, func(b api.Mailbox) any { return b.Password }),
			col("AWAY", 1, func(b api.Mailbox) any { return b.Reply != nil }),
			col("FAILED SIGN-INS", 1, func(b api.Mailbox) any {
				if b.FailedSignIns == nil {
					return ""
				}
				return b.FailedSignIns.Count
			}),
			col("ALSO TO", 0, func(b api.Mailbox) any { return strings.Join(b.ForwardTo, ", ") }),
			col("ADDED", 1, func(b api.Mailbox) any { return b.AddedAt }),
		})
}

// mailSuspended is what of mail is suspended, in words.
func mailSuspended(sending, receiving bool) string {
	switch {
	case sending && receiving:
		return "sending and receiving"
	case sending:
		return "sending"
	}
	return "receiving"
}

func showMailbox(ctx context.Context, c *call) error {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return err
	}
	var list api.MailboxList
	if err := c.client.Get(ctx, mailboxesPath(account), nil, &list); err != nil {
		return err
	}
	at := slices.IndexFunc(list.Mailboxes, func(b api.Mailbox) bool {
		return strings.EqualFold(b.Address, c.args[0]) || strings.EqualFold(b.Unicode, c.args[0])
	})
	if at < 0 {
		return fmt.Errorf("there is no mailbox %s; see: victualler mailbox list %s", c.args[0], account)
	}
	b := list.Mailboxes[at]
	reply, junk := "", "as the installation says"
	if b.Reply != nil {
		reply = b.Reply.Text
	}
	if b.JunkAbove != nil {
		junk = fmt.Sprintf("%g points on", *b.JunkAbove)
	}
	failed := ""
	if f := b.FailedSignIns; f != nil {
		failed = fmt.Sprintf("%d within a day, from %s; the last %s", f.Count, counted(int(f.Addresses), "address"),
			local(f.LastAt))
		if f.LastFrom != "" {
			failed += " from " + f.LastFrom
		}
	}
	var programs []string
	for _, p := range b.Programs {
		programs = append(programs, p.Name+" (since "+local(p.AddedAt)+")")
	}
	g := pairs("mailbox", b.Unicode, "sign-in name", b.Address, "server", list.Server,
		"read with", "IMAP, port 993, TLS; or POP3, port 995, TLS", "send with", "SMTP, port 465, TLS",
		"filters", "ManageSieve, port 4190, STARTTLS",
		"password", map[bool]string{true: "set", false: "none yet"}[b.Password],
		"failed sign-ins", failed, "passwords for programs", strings.Join(programs, ", "),
		"holds at most", amountOf(b.Most, string(plans.Bytes)),
		"also passed on to", strings.Join(b.ForwardTo, ", "),
		"absence reply", reply, "to Junk from", junk, "added", local(b.AddedAt))
	return c.show(b, g, func() error {
		c.table(g)
		return nil
	})
}

// sizeGiven reads --size; nil where it is not given.
func (c *call) sizeGiven() (*int64, error) {
	text := c.given("size")
	if text == nil {
		return nil, nil
	}
	n, err := plans.ParseSize(*text)
	return &n, err
}

// numberGiven reads a flag with a number; nil where it is not given.
func (c *call) numberGiven(flag string) (*int64, error) {
	text := c.given(flag)
	if text == nil {
		return nil, nil
	}
	n, err := strconv.ParseInt(*text, 10, 64)
	if err != nil || n < 0 {
		return nil, usageError{fmt.Sprintf("--%s is a number such as 100, not %q", flag, *text)}
	}
	return &n, nil
}

func addMailbox(ctx context.Context, c *call) error {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return err
	}
	body := api.NewMailbox{Address: c.args[0], Server: c.value("server")}
	if body.Size, err = c.sizeGiven(); err != nil {
		return err
	}
	if body.SendsPerHour, err = c.numberGiven("sends-per-hour"); err != nil {
		return err
	}
	if list := c.addressesGiven("forward-to"); list != nil {
		body.ForwardTo = *list
	}
	made := false
	if !c.previews() || c.on("generate") || c.on("password-stdin") {
		if body.Password, made, err = c.newPassword(ctx); err != nil {
			return err
		}
	}
	var done api.MailboxChanged
	previewed, err := c.change(ctx, http.MethodPost, mailboxesPath(account), body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("mailbox %s on %s", done.Mailbox.Unicode, done.Server)
	if made {
		c.showPassword("password", body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

// replyGiven reads what is said of an absence reply; nil is nothing.
func (c *call) replyGiven(ctx context.Context) (*api.AbsenceReply, error) {
	file := c.value("reply-file")
	switch {
	case c.on("no-reply"):
		return &api.AbsenceReply{}, nil
	case file == "" && c.value("reply-subject")+c.value("reply-from")+c.value("reply-until") != "":
		return nil, usageError{"give the text of the reply, too: --reply-file FILE"}
	case file == "":
		return nil, nil
	}
	text, err := c.readInput(ctx, file)
	if err != nil {
		return nil, err
	}
	reply := &api.AbsenceReply{Subject: c.value("reply-subject"), Text: string(text)}
	if reply.From, err = parseMoment(c.value("reply-from")); err != nil {
		return nil, usageError{"--reply-from: " + err.Error()}
	}
	if reply.Until, err = parseMoment(c.value("reply-until")); err != nil {
		return nil, usageError{"--reply-until: " + err.Error()}
	}
	return reply, nil
}

func changeMailbox(ctx context.Context, c *call) error {
	path, err := c.mailboxPath(ctx)
	if err != nil {
		return err
	}
	body := api.MailboxChange{}
	if body.Size, err = c.sizeGiven(); err != nil {
		return err
	}
	if body.SendsPerHour, err = c.numberGiven("sends-per-hour"); err != nil {
		return err
	}
	body.ForwardTo = c.addressesGiven("forward-to")
	if body.JunkAbove, err = c.pointsGiven("junk-above"); err != nil {
		return err
	}
	if body.Reply, err = c.replyGiven(ctx); err != nil {
		return err
	}
	made := false
	if body.Password, made, err = c.passwordChange(ctx); err != nil {
		return err
	}
	if body.Password == nil && body.Size == nil && body.SendsPerHour == nil && body.ForwardTo == nil &&
		body.Reply == nil && body.JunkAbove == nil {
		return c.nothingToChange()
	}
	var done api.MailboxChanged
	previewed, err := c.change(ctx, http.MethodPatch, path, body, &done)
	if err != nil || previewed {
		return err
	}
	if made {
		c.showPassword("password", *body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

// readMailboxes reads a file of mailboxes: CSV with a heading.
func readMailboxes(file string, text []byte) ([]api.NewMailbox, error) {
	table, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(table) < 2 {
		return nil, fmt.Errorf("%s has no mailbox; its first line is a heading, such as address,password,size", file)
	}
	known := []string{"address", "password", "size", "forward_to", "sends_per_hour"}
	for _, name := range table[0] {
		if !slices.Contains(known, name) {
			return nil, fmt.Errorf("%s: the heading %q is none of %s", file, name, orList(known))
		}
	}
	if !slices.Contains(table[0], "address") {
		return nil, fmt.Errorf("%s has no heading “address”", file)
	}
	var list []api.NewMailbox
	for n, line := range table[1:] {
		var box api.NewMailbox
		for column, text := range line {
			text = strings.TrimSpace(text)
			var err error
			switch name := table[0][column]; {
			case text == "":
			case name == "address":
				box.Address = text
			case name == "password":
				box.Password = text
			case name == "size":
				var size int64
				size, err = plans.ParseSize(text)
				box.Size = &size
			case name == "forward_to":
				box.ForwardTo = strings.FieldsFunc(text, func(r rune) bool { return r == ';' || r == ' ' })
			case name == "sends_per_hour":
				var sends int64
				sends, err = strconv.ParseInt(text, 10, 64)
				box.SendsPerHour = &sends
			}
			if err != nil {
				return nil, fmt.Errorf("%s, line %d: %w", file, n+2, err)
			}
		}
		list = append(list, box)
	}
	return list, nil
}

func importMailboxes(ctx context.Context, c *call) error {
	text, err := c.readInput(ctx, c.args[1])
	if err != nil {
		return err
	}
	body := api.NewMailboxes{}
	if body.Mailboxes, err = readMailboxes(c.args[1], text); err != nil {
		return err
	}
	var done api.MailboxesAdded
	previewed, err := c.change(ctx, http.MethodPost, mailboxesPath(c.args[0])+"/many", body, &done)
	if err != nil || previewed {
		return err
	}
	if err := printList(c, done.Mailboxes, false, "", []column[api.MailboxAdded]{
		col("ADDRESS", 0, func(b api.MailboxAdded) any { return b.Address }),
		col("PASSWORD", 0, func(b api.MailboxAdded) any { return b.Password }),
	}); err != nil {
		return err
	}
	return c.startedIf(ctx, done.Operation)
}
