package api

import "time"

// Mailbox stores the messages to its address, and lets its holder read and send them.
type Mailbox struct {
	Address      string        `json:"address" doc:"As programs write it, such as info@ternferries.example; also the name to sign in with."`
	Unicode      string        `json:"unicode" doc:"As people write it."`
	Password     bool          `json:"password" doc:"Whether it has a password; without one, nobody can sign in."`
	Size         *int64        `json:"size" doc:"The most it may hold, in bytes; null is as much as the account may give a mailbox."`
	Most         *int64        `json:"most" doc:"What that comes to now, in bytes; null is unlimited."`
	ForwardTo    []string      `json:"forward_to" doc:"Addresses that its messages are passed on to as well."`
	SendsPerHour *int64        `json:"sends_per_hour" doc:"To how many recipients its holder may send within an hour; null is as many as the account may."`
	Reply        *AbsenceReply `json:"reply" doc:"What whoever writes is told, once a week; null is nothing."`
	Domain       string        `json:"domain" doc:"In A-labels."`
	AddedAt      time.Time     `json:"added_at"`
	Version      int64         `json:"version" doc:"Counts changes; the ETag."`
}

// AbsenceReply says that the holder of a mailbox is away. Lists, failures and other replies get
// none.
type AbsenceReply struct {
	Subject string     `json:"subject,omitempty" maxLength:"200" doc:"Absent is that of the message, with “Auto: ” before it."`
	Text    string     `json:"text" maxLength:"10000"`
	From    *time.Time `json:"from,omitempty" doc:"Not before then."`
	Until   *time.Time `json:"until,omitempty" doc:"Not after then."`
}

// MailboxList is the mailboxes of an account, and where mail programs find them.
type MailboxList struct {
	Mailboxes []Mailbox `json:"mailboxes"`
	Server    string    `json:"server,omitempty" doc:"The name of the mail server; absent while the account has no mail."`
}

// NewMailbox describes a mailbox to be added.
type NewMailbox struct {
	Address      string   `json:"address" minLength:"1" maxLength:"320" doc:"With the domain, or what goes before the @ of the account's main domain."`
	Password     string   `json:"password,omitempty" maxLength:"72"`
	Size         *int64   `json:"size,omitempty" minimum:"1" doc:"In bytes; as much as the account may give a mailbox where absent."`
	ForwardTo    []string `json:"forward_to,omitempty" maxItems:"50" doc:"Addresses that its messages are passed on to as well."`
	SendsPerHour *int64   `json:"sends_per_hour,omitempty" minimum:"1" doc:"To how many recipients its holder may send within an hour; as many as the account may where absent."`
}

// NewMailboxes describes mailboxes to be added at once.
type NewMailboxes struct {
	Mailboxes []NewMailbox `json:"mailboxes" minItems:"1" maxItems:"5000" doc:"Those without a password get one."`
}

// MailboxAdded is one of many mailboxes that were added.
type MailboxAdded struct {
	Address  string `json:"address"`
	Password string `json:"password,omitempty" doc:"The one that was made; it is told here and nowhere else."`
}

// MailboxesAdded is many mailboxes that were added.
type MailboxesAdded struct {
	Mailboxes []MailboxAdded `json:"mailboxes"`
	Server    string         `json:"server" doc:"The name of the mail server."`
	Operation int64          `json:"operation"`
}

// MailboxChange changes a mailbox; what is absent stays.
type MailboxChange struct {
	Password     *string       `json:"password,omitempty" maxLength:"72" doc:"Another one ends all sessions; empty takes the password away."`
	Size         *int64        `json:"size,omitempty" minimum:"0" doc:"In bytes; 0 is as much as the account may give a mailbox."`
	ForwardTo    *[]string     `json:"forward_to,omitempty" maxItems:"50" doc:"Addresses that its messages are passed on to as well; an empty list is none."`
	SendsPerHour *int64        `json:"sends_per_hour,omitempty" minimum:"0" doc:"To how many recipients its holder may send within an hour; 0 is as many as the account may."`
	Reply        *AbsenceReply `json:"reply,omitempty" doc:"What whoever writes is told; one without a text ends it."`
}

// MailboxChanged is a mailbox that was added or changed.
type MailboxChanged struct {
	Mailbox   Mailbox `json:"mailbox"`
	Server    string  `json:"server" doc:"The name of the mail server."`
	Operation int64   `json:"operation"`
	Version   int64   `json:"version"`
}

// MailAddress is an address that is no mailbox's: it leads to others.
type MailAddress struct {
	Address string     `json:"address" doc:"As programs write it, such as sales@ternferries.example; *@ternferries.example gets what no other address does."`
	Unicode string     `json:"unicode" doc:"As people write it."`
	Kind    string     `json:"kind" enum:"address,catch_all,role" doc:"role is an address that every domain with mail has (RFC 2142)."`
	Targets []string   `json:"targets" doc:"The addresses that it leads to: mailboxes and addresses of the account, and others."`
	Pointed bool       `json:"pointed" doc:"Whether somebody has said where it leads; false only for a role address that leads where it did at first."`
	Domain  string     `json:"domain" doc:"In A-labels."`
	AddedAt *time.Time `json:"added_at"`
	Version int64      `json:"version" doc:"Counts changes; the ETag."`
}

// MailAddressList is the addresses of an account beside those of its mailboxes.
type MailAddressList struct {
	Addresses []MailAddress `json:"addresses"`
}

// NewMailAddress describes an address to be added.
type NewMailAddress struct {
	Address string   `json:"address" minLength:"1" maxLength:"320" doc:"With the domain, or what goes before the @ of the account's main domain; * is the catch-all."`
	Targets []string `json:"targets" minItems:"1" maxItems:"50" doc:"The addresses that it leads to; what has no domain is of the same one."`
}

// MailAddressChange changes where an address leads.
type MailAddressChange struct {
	Targets []string `json:"targets" minItems:"1" maxItems:"50"`
}

// MailAddressChanged is an address that was added or changed.
type MailAddressChanged struct {
	Address   MailAddress `json:"address"`
	Server    string      `json:"server" doc:"The name of the mail server."`
	Operation int64       `json:"operation"`
	Version   int64       `json:"version"`
}

// MailPath is what becomes of a message to an address.
type MailPath struct {
	Address string     `json:"address"`
	Unicode string     `json:"unicode"`
	Hop     string     `json:"hop" enum:"mailbox,address,catch_all,role,sub_address,outside,nowhere,loop"`
	Says    string     `json:"says" doc:"That in words."`
	Next    []MailPath `json:"next" doc:"Where it goes on to."`
}

// Message is what has become of a message for one recipient.
type Message struct {
	ID          int64     `json:"id"`
	Server      string    `json:"server"`
	Queue       string    `json:"queue,omitempty" doc:"The message's name in the queue of its server; absent where it was not taken."`
	CameAt      time.Time `json:"came_at"`
	At          time.Time `json:"at" doc:"When the last thing happened."`
	Sender      string    `json:"sender" doc:"Of the envelope; empty for messages that tell of failures."`
	FirstSender string    `json:"first_sender,omitempty" doc:"Whoever has sent a message that an address passed on; its sender is then one that failures come back to."`
	Recipient   string    `json:"recipient"`
	DeliveredTo string    `json:"delivered_to,omitempty" doc:"Where it was led, if that is another address."`
	MessageID   string    `json:"message_id,omitempty"`
	Size        int64     `json:"size" doc:"In bytes; 0 where it was not taken."`
	Client      string    `json:"client,omitempty" doc:"The address of whoever has brought it."`
	SignIn      string    `json:"sign_in,omitempty" doc:"The mailbox whose holder has sent it."`
	FromAccount string    `json:"from_account,omitempty" doc:"The account that it is of."`
	ToAccount   string    `json:"to_account,omitempty" doc:"The account that gets it."`
	Outcome     string    `json:"outcome" enum:"delivered,forwarded,waiting,failed,refused"`
	Says        string    `json:"says" doc:"That in words."`
	Code        string    `json:"code,omitempty" doc:"Of RFC 3463."`
	Relay       string    `json:"relay,omitempty" doc:"The server or program that was asked to take it."`
	Reply       string    `json:"reply,omitempty" doc:"What was answered."`
	Tries       int64     `json:"tries"`
}

// MessagePage is a page of what became of messages, the newest first.
type MessagePage struct {
	Messages []Message `json:"messages"`
	Next     string    `json:"next,omitempty" doc:"Give it as cursor to get the next page; absent on the last one."`
}

// QueuedMessage is a message that waits on a server.
type QueuedMessage struct {
	Server     string            `json:"server"`
	Queue      string            `json:"queue" doc:"Its name in the queue."`
	Held       bool              `json:"held" doc:"Whether it waits until somebody releases it."`
	CameAt     time.Time         `json:"came_at"`
	Size       int64             `json:"size" doc:"In bytes."`
	Sender     string            `json:"sender"`
	Account    string            `json:"account,omitempty" doc:"The account that it is of."`
	Recipients []QueuedRecipient `json:"recipients"`
}

// QueuedRecipient is somebody whom a message waits for.
type QueuedRecipient struct {
	Address string `json:"address"`
	Reason  string `json:"reason,omitempty" doc:"Why it waits, as the other server has said."`
}

// Queue is the messages that wait, the oldest first.
type Queue struct {
	Messages []QueuedMessage `json:"messages"`
	Silent   []string        `json:"silent" doc:"Servers that do not answer, and whose messages are missing."`
	More     bool            `json:"more" doc:"Whether there are more than are listed."`
}

// QueueChange says what is to be done with messages that wait.
type QueueChange struct {
	Server   string   `json:"server" maxLength:"31"`
	Messages []string `json:"messages" minItems:"1" maxItems:"1000" doc:"Their names in the queue."`
	Do       string   `json:"do" enum:"retry,hold,release,remove"`
}

// QueueChanged tells how many messages something was done with.
type QueueChanged struct {
	Messages int `json:"messages"`
}

// SendingReleased is an account that sends again.
type SendingReleased struct {
	Account string `json:"account" doc:"Its sign-in name."`
}
