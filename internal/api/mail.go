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
	JunkAbove    *float64      `json:"junk_above" doc:"From how many points on a message goes to Junk; null is as in the settings of the installation."`
	Reply        *AbsenceReply `json:"reply" doc:"What whoever writes is told, once a week; null is nothing."`
	Domain       string        `json:"domain" doc:"In A-labels."`
	AddedAt      time.Time     `json:"added_at"`

	Programs []ProgramPassword `json:"programs" doc:"Further passwords, for one program each."`
	Filters  []MailFilter      `json:"filters" doc:"What sorts its messages, in this order: what one has moved or thrown away is not looked at by the next."`

	FailedSignIns *SignInFailures `json:"failed_sign_ins,omitempty" doc:"Those of the last day; absent is none."`

	Version int64 `json:"version" doc:"Counts changes; the ETag."`
}

// SignInFailures counts sign-ins that failed.
type SignInFailures struct {
	Count     int64     `json:"count"`
	Addresses int64     `json:"addresses" doc:"From how many addresses they came."`
	LastAt    time.Time `json:"last_at"`
	LastFrom  string    `json:"last_from" doc:"The address that the last one came from; empty is one of many."`
}

// AbsenceReply says that the holder of a mailbox is away. Lists, failures and other replies get
// none.
type AbsenceReply struct {
	Subject string     `json:"subject,omitempty" maxLength:"200" doc:"Absent is that of the message, with “Auto: ” before it."`
	Text    string     `json:"text" maxLength:"10000"`
	From    *time.Time `json:"from,omitempty" doc:"Not before then."`
	Until   *time.Time `json:"until,omitempty" doc:"Not after then."`
}

// MailRehearsal is what others see of a domain's mail before they take a message.
type MailRehearsal struct {
	Domain   string        `json:"domain"`
	Server   string        `json:"server" doc:"The name by which the mail server greets others."`
	Right    bool          `json:"right" doc:"Whether everything is."`
	Findings []MailFinding `json:"findings"`
}

// MailFinding is one thing that others look at.
type MailFinding struct {
	Check string `json:"check" enum:"mx,spf,dkim,dmarc,helo,reverse,tls,policy"`
	Right bool   `json:"right"`
	Says  string `json:"says" doc:"In words."`
	Do    string `json:"do,omitempty" doc:"What helps."`
}

// SuspendMail says what of an account's mail is suspended.
type SuspendMail struct {
	Sending   bool   `json:"sending,omitempty" doc:"Nothing is sent or passed on."`
	Receiving bool   `json:"receiving,omitempty" doc:"Whoever writes is told to try again later."`
	Why       string `json:"why" minLength:"1" maxLength:"500"`
}

// MailSuspension says that an account's mail is suspended by itself.
type MailSuspension struct {
	Sending   bool      `json:"sending"`
	Receiving bool      `json:"receiving"`
	Why       string    `json:"why"`
	By        string    `json:"by"`
	Since     time.Time `json:"since"`
}

// MailFilter sorts messages.
type MailFilter struct {
	All    bool             `json:"all" doc:"Whether each of the tests must hold; otherwise one is enough."`
	Tests  []MailFilterTest `json:"tests" maxItems:"10"`
	Folder string           `json:"folder,omitempty" maxLength:"200" doc:"Where the message goes, such as Suppliers/Paint; absent stays in the inbox."`
	Read   bool             `json:"read,omitempty" doc:"Marks it as read."`
	Flag   bool             `json:"flag,omitempty" doc:"Marks it as one to come back to."`
	Drop   bool             `json:"drop,omitempty" doc:"Throws it away."`
}

// MailFilterTest is something that a filter looks at.
type MailFilterTest struct {
	Field string `json:"field" enum:"from,to,subject,list,size" doc:"to is Cc, too; list is the identifier of a list (RFC 2919)."`
	How   string `json:"how" enum:"contains,is,above,below" doc:"A size is above or below."`
	Value string `json:"value,omitempty" maxLength:"200" doc:"A text."`
	Bytes int64  `json:"bytes,omitempty" minimum:"0" doc:"A size."`
}

// MailboxSignIn is the name and password of a mailbox.
type MailboxSignIn struct {
	Address  string `json:"address" minLength:"1" maxLength:"320"`
	Password string `json:"password" minLength:"1" maxLength:"72"`
	Token    bool   `json:"token,omitempty" doc:"True to get a bearer token instead of a cookie."`
}

// MailboxSession is a holder of a mailbox who has signed in.
type MailboxSession struct {
	Address string    `json:"address"`
	EndsAt  time.Time `json:"ends_at" doc:"When the session ends if it is not used."`
	Token   string    `json:"token,omitempty" doc:"Only if one was asked for."`
}

// OwnMailbox is what its holder sees of a mailbox.
type OwnMailbox struct {
	Mailbox Mailbox `json:"mailbox"`
	Server  string  `json:"server" doc:"The name of the mail server."`
	Title   string  `json:"title" doc:"Who runs this installation."`
}

// OwnMailboxChange changes a mailbox by its holder; what is absent stays.
type OwnMailboxChange struct {
	CurrentPassword string        `json:"current_password,omitempty" maxLength:"72" doc:"For another password."`
	Password        *string       `json:"password,omitempty" minLength:"1" maxLength:"72" doc:"Ends all sessions of mail programs, and the holder's others here."`
	ForwardTo       *[]string     `json:"forward_to,omitempty" maxItems:"50" doc:"Addresses that its messages are passed on to as well; an empty list is none."`
	JunkAbove       *float64      `json:"junk_above,omitempty" minimum:"0" maximum:"100" doc:"From how many points on a message goes to Junk; 0 is as in the settings of the installation."`
	Reply           *AbsenceReply `json:"reply,omitempty" doc:"What whoever writes is told; one without a text ends it."`
	Filters         *[]MailFilter `json:"filters,omitempty" maxItems:"50" doc:"What sorts its messages."`
}

// ProgramPassword is a further password of a mailbox, for one program. It cannot be looked up.
type ProgramPassword struct {
	Name    string    `json:"name" doc:"What it is for."`
	AddedAt time.Time `json:"added_at"`
}

// NewProgramPassword asks for one.
type NewProgramPassword struct {
	Name string `json:"name" minLength:"1" maxLength:"240" doc:"What it is for, such as telephone."`
}

// ProgramPasswordAdded is one that was made; it is told here and nowhere else.
type ProgramPasswordAdded struct {
	Name       string `json:"name"`
	Password   string `json:"password"`
	SignInName string `json:"sign_in_name"`
	Server     string `json:"server" doc:"The name of the mail server."`
	Operation  int64  `json:"operation"`
}

// MailboxList is the mailboxes of an account, and where mail programs find them.
type MailboxList struct {
	Mailboxes []Mailbox `json:"mailboxes"`
	Server    string    `json:"server,omitempty" doc:"The name of the mail server; absent while the account has no mail."`
	Placement string    `json:"placement,omitempty" doc:"Why its mail is there; for operators."`

	Suspension *MailSuspension `json:"suspension,omitempty" doc:"What of the account's mail is suspended by itself; absent is nothing."`
}

// NewMailbox describes a mailbox to be added.
type NewMailbox struct {
	Address      string   `json:"address" minLength:"1" maxLength:"320" doc:"With the domain, or what goes before the @ of the account's main domain."`
	Password     string   `json:"password,omitempty" maxLength:"72"`
	Size         *int64   `json:"size,omitempty" minimum:"1" doc:"In bytes; as much as the account may give a mailbox where absent."`
	ForwardTo    []string `json:"forward_to,omitempty" maxItems:"50" doc:"Addresses that its messages are passed on to as well."`
	SendsPerHour *int64   `json:"sends_per_hour,omitempty" minimum:"1" doc:"To how many recipients its holder may send within an hour; as many as the account may where absent."`
	Server       string   `json:"server,omitempty" maxLength:"31" doc:"Label of the server that the account's mail is to be on, with its first mailbox; chosen where absent. Customers leave it out."`
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
	JunkAbove    *float64      `json:"junk_above,omitempty" minimum:"0" maximum:"100" doc:"From how many points on a message goes to Junk; 0 is as in the settings of the installation."`
	Reply        *AbsenceReply `json:"reply,omitempty" doc:"What whoever writes is told; one without a text ends it."`
	Filters      *[]MailFilter `json:"filters,omitempty" maxItems:"50" doc:"What sorts its messages."`
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

// DistributionList is a distribution list: what is sent to its address goes to its members.
type DistributionList struct {
	Address       string    `json:"address" doc:"As programs write it, such as crew@ternferries.example."`
	Unicode       string    `json:"unicode" doc:"As people write it."`
	OwnersAddress string    `json:"owners_address" doc:"Leads to its owners; members leave by a message to it, too."`
	Name          string    `json:"name" doc:"What people call it."`
	Posting       string    `json:"posting" enum:"anyone,members,owners" doc:"Who may send to it without asking."`
	Moderated     bool      `json:"moderated" doc:"Whether what others send waits for an owner; it is refused otherwise."`
	Footer        string    `json:"footer" doc:"Is put below each message; {leave} in it is where a member leaves the list."`
	Owners        []string  `json:"owners" doc:"The addresses of those who look after it."`
	Members       int64     `json:"members" doc:"How many there are."`
	Domain        string    `json:"domain" doc:"In A-labels."`
	AddedAt       time.Time `json:"added_at"`
	Version       int64     `json:"version" doc:"Counts changes; the ETag."`
}

// DistributionLists is the lists of an account.
type DistributionLists struct {
	Lists []DistributionList `json:"lists"`
}

// NewDistributionList describes a list to be added.
type NewDistributionList struct {
	Address   string   `json:"address" minLength:"1" maxLength:"320" doc:"With the domain, or what goes before the @ of the account's main domain."`
	Name      string   `json:"name,omitempty" maxLength:"240"`
	Posting   string   `json:"posting,omitempty" enum:"anyone,members,owners" doc:"members where absent."`
	Moderated bool     `json:"moderated,omitempty"`
	Footer    string   `json:"footer,omitempty" maxLength:"8000"`
	Owners    []string `json:"owners" minItems:"1" maxItems:"20" doc:"What has no domain is of the same one."`
	Members   []string `json:"members,omitempty" maxItems:"5000"`
}

// DistributionListChange changes a list; what is absent stays.
type DistributionListChange struct {
	Name      *string   `json:"name,omitempty" maxLength:"240"`
	Posting   *string   `json:"posting,omitempty" enum:"anyone,members,owners"`
	Moderated *bool     `json:"moderated,omitempty"`
	Footer    *string   `json:"footer,omitempty" maxLength:"8000" doc:"Empty is none."`
	Owners    *[]string `json:"owners,omitempty" minItems:"1" maxItems:"20"`
}

// DistributionListChanged is a list that was added or changed.
type DistributionListChanged struct {
	List      DistributionList `json:"list"`
	Server    string           `json:"server" doc:"The name of the mail server."`
	Operation int64            `json:"operation"`
	Version   int64            `json:"version"`
}

// ListMember is a member of a list.
type ListMember struct {
	Address  string    `json:"address"`
	JoinedAt time.Time `json:"joined_at"`
}

// ListMembers are the members of a list.
type ListMembers struct {
	Members []ListMember `json:"members"`
}

// ListMemberChange adds members to a list, or takes them out of it.
type ListMemberChange struct {
	Add    []string `json:"add,omitempty" maxItems:"5000"`
	Remove []string `json:"remove,omitempty" maxItems:"5000"`
}

// ListMembersChanged tells what has become of it. Those that were members already, or none, do not
// matter.
type ListMembersChanged struct {
	Added     int   `json:"added"`
	Removed   int   `json:"removed"`
	Members   int   `json:"members" doc:"How many there are then."`
	Operation int64 `json:"operation"`
}

// HeldPost is a message to a list that waits for an owner.
type HeldPost struct {
	Post    string    `json:"post" doc:"Its name."`
	From    string    `json:"from"`
	Subject string    `json:"subject"`
	Size    int64     `json:"size" doc:"In bytes."`
	CameAt  time.Time `json:"came_at"`
}

// HeldPosts are the messages to a list that wait, the oldest first.
type HeldPosts struct {
	Posts []HeldPost `json:"posts"`
}

// HeldPostChange says what is to be done with a message that waits.
type HeldPostChange struct {
	Do string `json:"do" enum:"approve,drop"`
}

// HeldPostChanged is a message that something was done with.
type HeldPostChanged struct {
	Post string `json:"post" doc:"Its name."`
	List string `json:"list" doc:"The address of the list."`
}

// LeaveList is what the member of a list was told for leaving it.
type LeaveList struct {
	List string `json:"list" minLength:"1" maxLength:"320" doc:"Its address."`
	Code string `json:"code" minLength:"1" maxLength:"64"`
}

// ListLeft is a list that somebody has left.
type ListLeft struct {
	List string `json:"list" doc:"What people call it, or its address."`
}

// MailPath is what becomes of a message to an address.
type MailPath struct {
	Address string     `json:"address"`
	Unicode string     `json:"unicode"`
	Hop     string     `json:"hop" enum:"mailbox,address,catch_all,role,sub_address,list,list_owners,outside,nowhere,loop"`
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
	Outcome     string    `json:"outcome" enum:"delivered,forwarded,kept,waiting,failed,refused" doc:"Kept: an address has taken it and does not pass it on, as says tells."`
	Says        string    `json:"says" doc:"That in words."`
	Code        string    `json:"code,omitempty" doc:"Of RFC 3463."`
	Relay       string    `json:"relay,omitempty" doc:"The server or program that was asked to take it."`
	Reply       string    `json:"reply,omitempty" doc:"What was answered."`
	Tries       int64     `json:"tries"`
	Score       string    `json:"score,omitempty" doc:"What the spam filter found: the score in points, then the rules that count most. Absent where nobody was asked."`
	Folder      string    `json:"folder,omitempty" doc:"Where in the mailbox it was put; absent is the inbox."`
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

// Sending is what became of what the installation has sent to others of late.
type Sending struct {
	Since        time.Time            `json:"since"`
	Accounts     []SendingAccount     `json:"accounts" doc:"Those of which most came back first; 50 at most."`
	Destinations []SendingDestination `json:"destinations" doc:"Those that refused most first; 50 at most."`
}

// SendingAccount is what became of what an account has sent.
type SendingAccount struct {
	Account   string `json:"account" doc:"Its sign-in name."`
	Domain    string `json:"domain" doc:"The main one, in A-labels."`
	Server    string `json:"server" doc:"That of its mail."`
	Delivered int64  `json:"delivered"`
	Failed    int64  `json:"failed" doc:"Came back."`
	Waiting   int64  `json:"waiting"`
	Stopped   bool   `json:"stopped" doc:"Whether it is stopped from sending, as too much came back."`
}

// SendingDestination is what a domain elsewhere has made of what was sent there.
type SendingDestination struct {
	Domain    string `json:"domain"`
	Delivered int64  `json:"delivered"`
	Failed    int64  `json:"failed" doc:"Came back."`
	Waiting   int64  `json:"waiting"`
	Reply     string `json:"reply,omitempty" doc:"What was answered last where a message was not taken."`
}
