// Package agentlink is the wire between the service and the agents: what they
// say to each other, over which mutually authenticated connection, and how a
// server joins.
//
// The service calls, the agent answers: JSON over HTTP/1.1 or 2 and TLS 1.3. An
// agent never needs the service to keep sites running.
package agentlink

import (
	"time"

	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/mail"
	"victualler/internal/manifest"
)

// DefaultPort is the TCP port on which an agent listens.
const DefaultPort = 7677

// StepState is how far a step is.
type StepState string

// The states of a step.
const (
	StepRunning StepState = "running"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
)

// Step is one piece of work of an apply, told as it happens. The same name is
// told more than once as its state changes.
type Step struct {
	Name  string    `json:"name"`
	State StepState `json:"state"`
	// Detail is a text as language.Text.Encode writes it.
	Detail string `json:"detail,omitempty"`
}

// Receipt is what the agent did and verified for one revision of a manifest.
type Receipt struct {
	AccountID int64 `json:"account_id"`
	Revision  int64 `json:"revision"`
	// Changed is false when everything was as the manifest wants it already.
	Changed bool `json:"changed"`
	// Verified lists what was checked from outside, in words.
	Verified []string `json:"verified"`
	// Warnings are what does not work all the same, by what is in the account's home.
	Warnings []Warning `json:"warnings,omitempty"`
	// Failure says why the apply failed; the server is then as it was before. Nil means done.
	Failure *Failure  `json:"failure,omitempty"`
	At      time.Time `json:"at"`
}

// Warning is a part of an account that does not work because of what its owner has put into the
// home, or taken out of it. What was asked for is in force nevertheless.
type Warning struct {
	// Part is "site", "login" or "home".
	Part string `json:"part"`
	// Subject is the site's domain or the login's name; empty for the home.
	Subject string `json:"subject,omitempty"`
	// Path is the file or directory that is in the way, relative to the home.
	Path string     `json:"path,omitempty"`
	Code homes.Code `json:"code"`
	// Message is what a program says of it, if one does.
	Message string `json:"message,omitempty"`
}

// Failure is why an apply failed.
type Failure struct {
	// Code is one of the constants below.
	Code string `json:"code"`
	// Step is the step that failed, such as "nginx".
	Step string `json:"step"`
	// Message is for a person, with the program's own words where there are any.
	Message string `json:"message"`
}

// The failure codes.
const (
	FailedStep   = "failed"  // a step failed
	FailedStale  = "stale"   // a newer revision is there already
	FailedForged = "invalid" // the manifest is not valid
)

// Progress is one line of the answer to an apply: steps, and last the receipt.
type Progress struct {
	Step    *Step    `json:"step,omitempty"`
	Receipt *Receipt `json:"receipt,omitempty"`
}

// Drift is a difference between a manifest and what is found on the server.
type Drift struct {
	// Part is who answers for it: a step's name, such as "nginx".
	Part string `json:"part"`
	// Subject is a file's path, a user or the like.
	Subject string `json:"subject"`
	// Detail says what is the matter, as language.Text.Encode writes it.
	Detail string `json:"detail"`
	// Diff is a unified diff for a file: what is found, and what is wanted.
	Diff string `json:"diff,omitempty"`
}

// Preview is what an apply would do.
type Preview struct {
	// Changes are what would be made, changed or removed; empty when nothing would.
	Changes []Drift `json:"changes"`
	// Steps are the names of the steps that the apply would go through.
	Steps []string `json:"steps"`
}

// Sweep is the answer to a sweep: every account the agent knows, in the order
// of their names.
type Sweep struct {
	Accounts []AccountState `json:"accounts"`
	// Strays are files in directories of ours that belong to no account.
	Strays []Drift `json:"strays"`
	// Server is the digest of what the server holds for all accounts together.
	Server string `json:"server"`
}

// Challenges are what the server's web server answers authorities with, whatever the name they ask
// for (RFC 8555, section 8.3).
type Challenges struct {
	// Answers are key authorizations by their tokens.
	Answers map[string]string `json:"answers,omitempty"`
	// Removed are tokens that are no longer answered.
	Removed []string `json:"gone,omitempty"`
}

// Cleared is the answer to a clearing.
type Cleared struct {
	// Files counts what was removed or put right.
	Files int `json:"files"`
}

// LogRequest asks for a part of a site's access log: the last lines, or those after a place.
type LogRequest struct {
	AccountID  int64  `json:"account_id"`
	SignInName string `json:"sign_in_name"`
	Domain     string `json:"domain"`
	Lines      int    `json:"lines"`
	// After is the “next” of an earlier page; with it, the agent waits up to Wait for lines.
	After string        `json:"after,omitempty"`
	Wait  time.Duration `json:"wait,omitempty"`
}

// LongestLogWait is how long an agent waits for lines.
const LongestLogWait = 25 * time.Second

// LogPage is a part of a site's access log.
type LogPage struct {
	Lines []string `json:"lines"`
	Next  string   `json:"next"`
}

// MailLogRequest asks for what is new of messages.
type MailLogRequest struct {
	// After is the number of the last change that is known already.
	After int64 `json:"after"`
}

// MailLogPage is what is new of messages, in the order of the changes.
type MailLogPage struct {
	Deliveries []Delivery `json:"deliveries"`
	// More says that there is more already.
	More bool `json:"more,omitempty"`
	// Stops are the accounts that are stopped from sending at this moment.
	Stops []MailStop `json:"stops"`
	// Left are the members who have left lists by a message.
	Left []ListLeave `json:"left,omitempty"`
	// Failures are the sign-ins of the last day that failed; nil says nothing, as that is told now
	// and then alone.
	Failures []SignInFailures `json:"failures"`
}

// SignInFailures counts the sign-ins of the last day to a mailbox that failed.
type SignInFailures struct {
	Mailbox string `json:"mailbox"`
	Count   int64  `json:"count"`
	// Clients is from how many addresses they came.
	Clients int64 `json:"clients"`
	// LastAt is when the last one came, LastFrom from which address; empty is one of many.
	LastAt   time.Time `json:"last_at"`
	LastFrom string    `json:"last_from"`
}

// ListLeave says that a member of one of an account's lists has left it by a message.
type ListLeave struct {
	Account int64 `json:"account"`
	// Code is the member's ([mail.LeaveCode]).
	Code string `json:"code"`
}

// What is done with messages that wait for an owner of their list.
const (
	ApprovePost = "approve"
	DropPost    = "drop"
)

// ListPosts asks for the messages to a list that wait for an owner; where Do is set, it is done
// with one of them.
type ListPosts struct {
	List string `json:"list"`
	Do   string `json:"do,omitempty"`
	Post string `json:"post,omitempty"`
}

// HeldPosts are the messages to a list that wait.
type HeldPosts struct {
	Posts []mail.HeldPost `json:"posts"`
	// Gone says that what something was to be done with waits no more.
	Gone bool `json:"gone,omitempty"`
}

// MailStop says that an account is stopped from sending, as too much of it came back.
type MailStop struct {
	Account int64     `json:"account"`
	At      time.Time `json:"at"`
	// Sent is to how many recipients it had sent within a day, Failed how many of those came back.
	Sent   int64 `json:"sent"`
	Failed int64 `json:"failed"`
}

// Delivery is what has become of a message for one recipient so far.
type Delivery struct {
	// ID stays the same, Change is another number with each change; both only ever grow.
	ID     int64 `json:"id"`
	Change int64 `json:"change"`
	// Queue is the message's name in the queue of its server.
	Queue string `json:"queue,omitempty"`
	// Came is when the message came, At when the last thing happened.
	Came time.Time `json:"came"`
	At   time.Time `json:"at"`
	// Sender is that of the envelope; empty for messages that tell of failures.
	Sender string `json:"sender,omitempty"`
	// Recipient is the one that was written to, DeliveredTo where it was led, if that is another.
	Recipient   string `json:"recipient"`
	DeliveredTo string `json:"delivered_to,omitempty"`
	MessageID   string `json:"message_id,omitempty"`
	Size        int64  `json:"size,omitempty"`
	// Client is the address of whoever has brought it; SignIn the mailbox whose holder it was;
	// Local says that it was handed over on the server itself.
	Client string `json:"client,omitempty"`
	SignIn string `json:"sign_in,omitempty"`
	Local  bool   `json:"local,omitempty"`
	// Outcome is delivered, forwarded, kept, waiting, failed or refused.
	Outcome string `json:"outcome"`
	// Code is that of RFC 3463, Relay who was asked, Reply what was answered.
	Code  string `json:"code,omitempty"`
	Relay string `json:"relay,omitempty"`
	Reply string `json:"reply,omitempty"`
	Tries int64  `json:"tries"`
	// Score is what the spam filter found, with the rules that count most; Folder is where in the
	// mailbox a message is, other than the inbox.
	Score  string `json:"score,omitempty"`
	Folder string `json:"folder,omitempty"`
}

// QueuedMessage is a message that waits.
type QueuedMessage struct {
	Queue      string            `json:"queue"`
	Held       bool              `json:"held,omitempty"`
	Came       time.Time         `json:"came"`
	Size       int64             `json:"size"`
	Sender     string            `json:"sender"`
	Recipients []QueuedRecipient `json:"recipients"`
}

// QueuedRecipient is somebody whom a message waits for, and why.
type QueuedRecipient struct {
	Address string `json:"address"`
	Reason  string `json:"reason,omitempty"`
}

// Queue is the messages that wait on a server, the oldest first.
type Queue struct {
	Messages []QueuedMessage `json:"messages"`
	// More says that there are more than were listed.
	More bool `json:"more,omitempty"`
}

// What can be done with messages that wait.
const (
	QueueRetry   = "retry"
	QueueHold    = "hold"
	QueueRelease = "release"
	QueueRemove  = "remove"
)

// QueueChange says what is to be done with messages that wait.
type QueueChange struct {
	Do string `json:"do"`
	// Messages are names in the queue.
	Messages []string `json:"messages"`
}

// AccountState is one account as the agent finds it.
type AccountState struct {
	AccountID  int64           `json:"account_id"`
	SignInName string          `json:"sign_in_name"`
	Revision   int64           `json:"revision"`
	Wanted     manifest.Wanted `json:"wanted"`
	Drift      []Drift         `json:"drift,omitempty"`
	Warnings   []Warning       `json:"warnings,omitempty"`
	// Usage is what the home and the mail hold there; nil where it could not be measured.
	Usage *Usage `json:"usage,omitempty"`
	// Load is what runs for the account; nil if nothing has since the server was started.
	Load *Load `json:"load,omitempty"`
	// Databases are those of the account there, as they were measured last.
	Databases []DatabaseSize `json:"databases,omitempty"`
	// DatabaseLimit is what all databases of the account may hold, in bytes; nil is unlimited.
	DatabaseLimit *int64 `json:"database_limit,omitempty"`
}

// DatabaseSize is how much a database holds.
type DatabaseSize struct {
	Engine databases.Engine `json:"engine"`
	Name   string           `json:"name"`
	// Size in bytes, on disk.
	Size int64 `json:"size"`
	// Growth is whether the account's databases may grow.
	Growth databases.Growth `json:"growth,omitempty"`
}

// Load is what runs for an account, and what it has met of its limits. What counts up begins anew
// with the server's start.
type Load struct {
	Processes int64 `json:"processes"`
	// Memory in bytes.
	Memory int64 `json:"memory"`
	// CPU is the processor time used so far.
	CPU time.Duration `json:"cpu"`
	// ProcessesRefused counts processes that could not be made because of the limit.
	ProcessesRefused int64 `json:"processes_refused,omitempty"`
	// MemoryKills counts processes that were ended because of the limit.
	MemoryKills int64 `json:"memory_kills,omitempty"`
	// Throttled is how long it has waited because of its limit of processor time.
	Throttled time.Duration `json:"throttled,omitempty"`
}

// Sandboxes is how a server keeps accounts apart while they run.
type Sandboxes struct {
	// Layout is what the kernel has mounted of cgroups, in words.
	Layout string `json:"layout"`
	// Missing tells in words what the kernel does not offer, and so is not kept.
	Missing []string `json:"missing"`
	// Running is how many accounts have something running.
	Running int `json:"running"`
	// PHP lists the versions of PHP, newest first.
	PHP []string `json:"php"`
}

// Usage is what an account holds on disk.
type Usage struct {
	Bytes int64 `json:"bytes"`
	// Files counts files and directories; nil where they are not counted.
	Files *int64 `json:"files,omitempty"`
}

// Status is how a server is.
type Status struct {
	HostName     string    `json:"host_name"`
	AgentVersion string    `json:"agent_version"`
	Now          time.Time `json:"now"`
	// Load is the mean number of processes that ran or waited, over 1 minute.
	Load        float64 `json:"load"`
	Processors  int     `json:"processors"`
	MemoryTotal int64   `json:"memory_total"` // bytes
	MemoryFree  int64   `json:"memory_free"`  // bytes that programs could get
	DiskTotal   int64   `json:"disk_total"`   // bytes, file system of the homes
	DiskFree    int64   `json:"disk_free"`    // bytes
	// Quota says how disk limits are kept: "btrfs", "project" (ext4,
	// XFS), or "metered" where the file system cannot.
	Quota    string          `json:"quota"`
	Accounts int64           `json:"accounts"`
	Programs []ProgramStatus `json:"programs"`
	// Measured is when the sizes of databases were measured last, by engine.
	Measured []MeasuredEngine `json:"measured,omitempty"`
	// Sandboxes is nil where there are none.
	Sandboxes *Sandboxes `json:"sandboxes,omitempty"`
	// CertificateEnds is when the agent's own certificate ends.
	CertificateEnds time.Time `json:"certificate_ends"`
}

// MeasuredEngine is a measurement of the sizes of all databases of an engine.
type MeasuredEngine struct {
	Engine    databases.Engine `json:"engine"`
	At        time.Time        `json:"at"`
	Took      time.Duration    `json:"took"`
	Databases int              `json:"databases"`
}

// ProgramStatus is how one program is.
type ProgramStatus struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Running bool   `json:"running"`
	// Reloads counts reloads since the agent started.
	Reloads int64 `json:"reloads"`
}
