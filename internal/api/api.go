// Package api holds the documents of the HTTP API: what the service answers and
// what its clients send. The OpenAPI description is generated from them.
//
// Sizes are integers in bytes; an amount that is null is unlimited; times are
// RFC 3339 in UTC.
package api

import (
	"net/http"
	"strconv"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Problem is a refusal or failure (RFC 9457).
type Problem struct {
	Type   string           `json:"type" format:"uri-reference" doc:"What kind of problem it is; stable. See /api/v1/problems."`
	Title  string           `json:"title" doc:"The kind in words."`
	Status int              `json:"status" doc:"The HTTP status."`
	Detail string           `json:"detail,omitempty" doc:"What is wrong in this case, why, and what to do next."`
	Errors []refusal.Field  `json:"errors,omitempty" doc:"The fields at fault, if any."`
	Limits []refusal.Limit  `json:"limits,omitempty" doc:"The limits that leave no room, if that is it."`
	Decide []refusal.Choice `json:"decide,omitempty" doc:"The decisions of which the request must name one."`
	After  int64            `json:"retry_after,omitempty" doc:"In how many seconds to try again; the header Retry-After says the same."`

	refused *refusal.Refusal
}

// NewProblem makes a problem of a refusal, in English until [Problem.Say].
func NewProblem(status int, title string, r *refusal.Refusal) *Problem {
	p := &Problem{Type: ProblemBase + string(r.Kind), Title: title, Status: status, After: int64(r.After.Seconds()),
		refused: r}
	p.Say(language.English)
	return p
}

// Say has the problem said in a language; one that was read from an answer stays as it is.
func (p *Problem) Say(tag string) {
	if p.refused == nil {
		return
	}
	r := p.refused.In(tag)
	p.Title = language.Plain(p.Title).In(tag)
	p.Detail, p.Errors, p.Limits, p.Decide = r.Detail, r.Fields, r.Limits, r.Decide
}

// GetHeaders returns the headers that go with a problem (RFC 9110, section 10.2.3).
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	if p.After > 0 {
		h.Set("Retry-After", strconv.FormatInt(p.After, 10))
	}
	return h
}

// Error makes a problem an error for clients.
func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, f := range p.Errors {
		if f.Message != p.Detail {
			text += "; " + f.Name + ": " + f.Message
		}
	}
	return text
}

// ProblemBase is the path before a problem's kind in its type.
const ProblemBase = "/api/v1/problems/"

// Server is a machine that runs accounts.
type Server struct {
	Label      string     `json:"label"`
	Address    string     `json:"address" doc:"Host and port of its agent."`
	Addresses  []string   `json:"addresses" doc:"Its public addresses, of its sites and of its DNS."`
	Roles      []string   `json:"roles" doc:"What it serves."`
	HostName   string     `json:"host_name" doc:"The name by which it greets other mail servers; empty where it has none."`
	SpamFilter bool       `json:"spam_filter" doc:"Whether a mail server judges what comes and what is sent."`
	Open       bool       `json:"open" doc:"Whether it takes new accounts."`
	State      string     `json:"state" enum:"joining,joined"`
	Reachable  bool       `json:"reachable" doc:"Whether its agent answered when last asked."`
	SeenAt     *time.Time `json:"seen_at" doc:"When its agent last answered."`
	SweptAt    *time.Time `json:"swept_at" doc:"When its accounts were last compared with their manifests."`
	Accounts   int64      `json:"accounts" doc:"How many accounts it holds."`
	Drifts     int64      `json:"drifts" doc:"How many differences the last sweep found."`
	Health     *Health    `json:"health" doc:"What the agent said last; null before that."`
	Operation  int64      `json:"operation,omitempty" doc:"After a change of addresses: number of the operation that tells the name servers."`
	Version    int64      `json:"version" doc:"Counts changes; the ETag."`
}

// Health is how a server is.
type Health struct {
	Load         float64   `json:"load" doc:"Mean number of processes that ran or waited, over 1 minute."`
	Processors   int       `json:"processors"`
	MemoryTotal  int64     `json:"memory_total" doc:"Bytes."`
	MemoryFree   int64     `json:"memory_free" doc:"Bytes that programs could get."`
	DiskTotal    int64     `json:"disk_total" doc:"Bytes, on the file system of the homes."`
	DiskFree     int64     `json:"disk_free" doc:"Bytes."`
	Quota        string    `json:"quota" enum:"btrfs,project,metered" doc:"How disk limits are kept: by quota groups of btrfs, by project quota of ext4 or XFS, or not, but measured."`
	AgentVersion string    `json:"agent_version"`
	Programs     []Program `json:"programs"`
	Sandboxes    Sandboxes `json:"sandboxes" doc:"How it keeps accounts apart while they run."`
}

// Sandboxes is how a server keeps accounts apart while they run.
type Sandboxes struct {
	Layout  string   `json:"layout" doc:"What its kernel offers of control groups, in words."`
	Missing []string `json:"missing" doc:"What it cannot keep, in words: mend this first."`
	Running int64    `json:"running" doc:"Accounts with something running."`
	PHP     []string `json:"php" doc:"Versions of PHP, newest first."`
}

// Program is how one program on a server is.
type Program struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Running bool   `json:"running"`
	Reloads int64  `json:"reloads" doc:"Reloads since the agent started."`
}

// NewServer describes a server that is to join.
type NewServer struct {
	Label   string   `json:"label" minLength:"1" maxLength:"31" doc:"Lower-case letters, digits and hyphens."`
	Address string   `json:"address" minLength:"1" maxLength:"300" doc:"Host name or address of the server, with :PORT if its agent does not listen on 7677."`
	Roles   []string `json:"roles" minItems:"1" maxItems:"4" doc:"web, mail, database, dns."`
	Closed  bool     `json:"closed,omitempty" doc:"True if it takes no new accounts at first."`
	// Addresses are for servers whose agent is reached elsewhere than their sites.
	Addresses []string `json:"addresses,omitempty" maxItems:"16" doc:"Its public IPv4 and IPv6 addresses; that of the agent at first."`
	HostName  string   `json:"host_name,omitempty" maxLength:"253" doc:"The name by which it greets other mail servers, which leads to it and back; needed before it takes mail."`
}

// ServerChange changes a server; what is absent stays.
type ServerChange struct {
	Open       *bool     `json:"open,omitempty" doc:"Whether it takes new accounts."`
	Addresses  *[]string `json:"addresses,omitempty" maxItems:"16" doc:"Its public IPv4 and IPv6 addresses; none takes that of the agent. Zones that lead there follow."`
	HostName   *string   `json:"host_name,omitempty" maxLength:"253" doc:"The name by which it greets other mail servers."`
	SpamFilter *bool     `json:"spam_filter,omitempty" doc:"Whether a mail server judges what comes and what is sent; it takes over a change within a minute."`
}

// Joining is a server that has been added and waits for its agent.
type Joining struct {
	Server     Server    `json:"server"`
	JoinSecret string    `json:"join_secret" doc:"For “victualler-agent join” on the server. Shown once."`
	EndsAt     time.Time `json:"ends_at" doc:"When the secret ends."`
	Operation  int64     `json:"operation" doc:"Number of the operation that waits for the agent."`
}

// ServerList is all servers.
type ServerList struct {
	Servers []Server `json:"servers"`
}

// Drift is a difference between what a server should hold and what it holds.
type Drift struct {
	Account string    `json:"account,omitempty" doc:"Sign-in name; absent for what belongs to no account."`
	Part    string    `json:"part" doc:"Which part of the server answers for it, such as nginx."`
	Subject string    `json:"subject" doc:"The file, user or directory."`
	Detail  string    `json:"detail" doc:"What is wrong, in words."`
	Diff    string    `json:"diff,omitempty" doc:"Of files, a unified diff from what is found to what is wanted; of databases, the statements that put it right."`
	FoundAt time.Time `json:"found_at"`
}

// DriftList is what the last sweep found.
type DriftList struct {
	SweptAt *time.Time `json:"swept_at"`
	Drifts  []Drift    `json:"drifts"`
}

// Account is the unit of hosting.
type Account struct {
	ID         int64      `json:"id"`
	SignInName string     `json:"sign_in_name"`
	Domain     string     `json:"domain" doc:"Main domain, in A-labels."`
	Name       string     `json:"name" doc:"Main domain as people read it."`
	Customer   string     `json:"customer"`
	CustomerID int64      `json:"customer_id"`
	Reseller   string     `json:"reseller,omitempty" doc:"Whose customer it is; absent for the operator's own."`
	Plan       string     `json:"plan" doc:"RESELLER.PLAN for operators, where it is a reseller's."`
	Server     string     `json:"server"`
	State      string     `json:"state" enum:"opening,active,suspended,closing,closed"`
	MailState  string     `json:"mail_state,omitempty" enum:"sending,receiving,all" doc:"What of its mail is suspended by itself; absent is nothing."`
	DiskUsed   *int64     `json:"disk_used" doc:"Bytes, at the last sweep; null before."`
	DiskLimit  *int64     `json:"disk_limit" doc:"Bytes, as plan, frozen terms or exception give it; null is unlimited."`
	Exceptions int64      `json:"exceptions" doc:"How many limits and features are set by hand."`
	Frozen     bool       `json:"frozen" doc:"Whether it stays on its limits when the plan changes."`
	Applied    bool       `json:"applied" doc:"Whether the server has the account as it is wanted."`
	Drifts     int64      `json:"drifts" doc:"Differences that the last sweep found."`
	OpenedAt   time.Time  `json:"opened_at"`
	ClosedAt   *time.Time `json:"closed_at"`
	Version    int64      `json:"version" doc:"Counts changes; the ETag."`
}

// AccountDetail is an account with everything about it.
type AccountDetail struct {
	Account
	Placement   string       `json:"placement" doc:"Why it is on its server; for operators."`
	Address     string       `json:"address" doc:"The server's address."`
	Home        string       `json:"home" doc:"Path of the home on the server."`
	Domains     []Domain     `json:"domains"`
	Allowance   []Allowed    `json:"allowance" doc:"Every limit: how much, from where, used, left."`
	Features    []Granted    `json:"features" doc:"Every feature: whether it is on, and from where."`
	Excepted    []Exception  `json:"excepted" doc:"What is set by hand."`
	FrozenTerms *FrozenTerms `json:"frozen_terms,omitempty" doc:"The terms on which it stays, if they are frozen."`
	Suspension  *Suspension  `json:"suspension,omitempty" doc:"Why it is suspended, if it is."`
	Drift       []Drift      `json:"drift" doc:"What the last sweep found."`
	Warnings    []Warning    `json:"warnings" doc:"What does not work because of what is in the home, or because of limits of what runs."`
	Running     *Running     `json:"running,omitempty" doc:"What runs for it; absent if nothing has since its server was started."`
	SweptAt     *time.Time   `json:"swept_at"`
}

// Running is what runs for an account, as its server said last.
type Running struct {
	MeasuredAt time.Time `json:"measured_at"`
	Processes  int64     `json:"processes" doc:"Processes and threads."`
	Memory     int64     `json:"memory" doc:"Bytes."`
	CPU        int64     `json:"cpu" doc:"Percent of one processor, over the last minute or so."`
	Met        LimitsMet `json:"met" doc:"What it has met of its limits in the last day."`
}

// LimitsMet is how often what runs for an account has met its limits.
type LimitsMet struct {
	Refused int64 `json:"refused" doc:"Processes that could not be started."`
	Killed  int64 `json:"killed" doc:"Processes that were ended for want of memory."`
	Waited  int64 `json:"waited" doc:"Seconds for which everything has waited for processor time."`
}

// HungriestAccounts are the accounts that run most on a server.
type HungriestAccounts struct {
	Accounts []HungryAccount `json:"accounts"`
}

// HungryAccount is an account with what runs for it.
type HungryAccount struct {
	ID         int64  `json:"id"`
	SignInName string `json:"sign_in_name"`
	MainDomain string `json:"main_domain"`
	Running
}

// Warning is a part of an account that does not work because of what its owner has put into the
// home, or taken out of it, or because of limits of what runs.
type Warning struct {
	Part    string    `json:"part" enum:"site,login,home,sandbox"`
	Subject string    `json:"subject,omitempty" doc:"The site's domain, the login's name, or the limit's key."`
	Path    string    `json:"path,omitempty" doc:"What is in the way, relative to the home."`
	Code    string    `json:"code"`
	What    string    `json:"what" doc:"What is wrong, in words."`
	Seen    string    `json:"seen,omitempty" doc:"What visitors, or whoever signs in, see of it."`
	Mend    string    `json:"mend,omitempty" doc:"What the account's owner can do."`
	Since   time.Time `json:"since"`
}

// Granted is one feature of an allowance.
type Granted struct {
	Feature string `json:"feature"`
	Title   string `json:"title" doc:"What people call it."`
	On      bool   `json:"on"`
	Source  string `json:"source" doc:"What decides it."`
}

// FrozenTerms tells on which terms an account stays when its plan changes.
type FrozenTerms struct {
	Plan  string    `json:"plan" doc:"The plan it was on then."`
	Since time.Time `json:"since"`
}

// Suspension tells why something is switched off.
type Suspension struct {
	Why   string    `json:"why"`
	By    string    `json:"by"`
	Since time.Time `json:"since"`
}

// Suspend asks for a suspension.
type Suspend struct {
	Why string `json:"why" minLength:"1" maxLength:"500" doc:"The reason; whoever signs in is told."`
}

// Allowed is one limit of an allowance.
type Allowed struct {
	Key      string `json:"key"`
	Unit     string `json:"unit" enum:"bytes,count,percent,seconds"`
	Title    string `json:"title" doc:"The limit in words."`
	Bound    bool   `json:"bound" doc:"Whether it bounds one thing or a rate, and is not used up."`
	Value    *int64 `json:"value" doc:"Null is unlimited."`
	Used     *int64 `json:"used" doc:"Null for what is measured and was not yet, and for bounds."`
	Left     *int64 `json:"left" doc:"What remains; null is unlimited, or nothing is known of the use."`
	Source   string `json:"source" doc:"Where the value comes from."`
	RaisedBy string `json:"raised_by" doc:"Who can raise it."`
}

// AccountPage is a page of accounts.
type AccountPage struct {
	Accounts []Account `json:"accounts"`
	Next     string    `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// OpenAccount asks for a new account.
type OpenAccount struct {
	Domain        string `json:"domain" minLength:"1" maxLength:"2048" doc:"Main domain as typed; what has only one meaning is put right."`
	Plan          string `json:"plan" minLength:"1" maxLength:"81" doc:"Name; for operators, RESELLER.NAME is a reseller's."`
	Reseller      string `json:"reseller,omitempty" maxLength:"40" doc:"Whose customer it is, for operators."`
	Customer      string `json:"customer" minLength:"1" maxLength:"200" doc:"Name or number of the customer."`
	NewCustomer   bool   `json:"new_customer,omitempty" doc:"True to add the customer as well."`
	CustomerEmail string `json:"customer_email,omitempty" maxLength:"254" doc:"Contact address of a new customer."`
	SignInName    string `json:"sign_in_name,omitempty" maxLength:"100" doc:"Proposed from the domain where absent."`
	Server        string `json:"server,omitempty" maxLength:"31" doc:"Label; chosen where absent."`
	Language      string `json:"language,omitempty" maxLength:"12" doc:"Of a new customer's notices."`
	Activation    string `json:"activation,omitempty" enum:"none,link,password" doc:"How the customer gets to sign in: by a link that is mailed, by the password given here, or not at all (the default)."`
	Password      string `json:"password,omitempty" maxLength:"1000" doc:"The first password, with activation “password”."`
	MustChange    bool   `json:"must_change,omitempty" doc:"True to have the first password changed at the first sign-in."`
	ReadOnly      bool   `json:"read_only,omitempty" doc:"True for a sign-in that may look and change nothing."`
	// Kit is installed when the account is there.
	Kit *NewSiteKit `json:"kit,omitempty" doc:"With what its main site begins; an empty page otherwise."`
}

// NewOwner names the customer to whom an account is given.
type NewOwner struct {
	Customer string `json:"customer" minLength:"1" maxLength:"200" doc:"Name or number."`
}

// Opening is an account that is being opened.
type Opening struct {
	Account   Account `json:"account"`
	Operation int64   `json:"operation" doc:"Number of the operation that makes it."`
	// KitOperation follows it.
	KitOperation int64    `json:"kit_operation,omitempty" doc:"Number of the operation that installs its kit afterwards."`
	Corrections  []string `json:"corrections" doc:"What was put right in the domain."`
	Placement    string   `json:"placement" doc:"Why it goes on that server; for operators."`
}

// DomainCheck is what would become of a domain that is being typed.
type DomainCheck struct {
	Domain      string   `json:"domain" doc:"In A-labels."`
	Unicode     string   `json:"unicode" doc:"As people read it."`
	Corrections []string `json:"corrections" doc:"What was put right."`
	SignInName  string   `json:"sign_in_name" doc:"A sign-in name that is free."`
	Taken       string   `json:"taken,omitempty" doc:"Why the domain cannot be used; absent if it can."`
}

// CloseAccount confirms that an account is to be closed.
type CloseAccount struct {
	SignInName string `json:"sign_in_name" minLength:"1" maxLength:"100" doc:"The account's sign-in name once more, so that nothing is closed by mistake."`
}

// Started is work on servers that has begun.
type Started struct {
	Operation int64 `json:"operation" doc:"Number of the operation."`
}

// Operation is a piece of work, visible while it runs and afterwards.
type Operation struct {
	ID         int64      `json:"id"`
	Kind       string     `json:"kind" doc:"What is done, such as account.open."`
	Title      string     `json:"title" doc:"What people call that, such as Open account."`
	Subject    string     `json:"subject" doc:"What it is done to."`
	Actor      string     `json:"actor" doc:"Who asked for it."`
	State      string     `json:"state" enum:"waiting,running,done,failed,cancelled"`
	Failure    string     `json:"failure,omitempty" doc:"Why it failed and what was done about it, or by whom it was cancelled."`
	Note       string     `json:"note,omitempty" doc:"What it waits for."`
	Steps      []Step     `json:"steps"`
	Version    int64      `json:"version" doc:"Counts changes; the id of progress messages."`
	CreatedAt  time.Time  `json:"created_at"`
	StartedAt  *time.Time `json:"started_at"`
	FinishedAt *time.Time `json:"finished_at"`
}

// Finished reports whether the operation has ended, well or not.
func (o Operation) Finished() bool { return o.FinishedAt != nil }

// Changes tells of what has changed, so that whoever shows it can ask for it again.
type Changes struct {
	Things   []string `json:"things" doc:"Kinds of things, as in actions: account, plan, operation and so on."`
	Accounts []int64  `json:"accounts" doc:"Numbers of the accounts that are concerned."`
}

// NewChanges returns what is told when nothing has changed.
func NewChanges() Changes { return Changes{Things: []string{}, Accounts: []int64{}} }

// Step is one step of an operation.
type Step struct {
	Name       string     `json:"name" doc:"For programs."`
	Title      string     `json:"title" doc:"For people, in their language."`
	State      string     `json:"state" enum:"running,done,failed,cancelled"`
	Detail     string     `json:"detail,omitempty"`
	StartedAt  time.Time  `json:"started_at"`
	FinishedAt *time.Time `json:"finished_at"`
}

// OperationPage is a page of operations, newest first.
type OperationPage struct {
	Operations []Operation `json:"operations"`
	Next       string      `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// GetStatus returns the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType returns the media type of problems (RFC 9457, section 6.1).
func (p *Problem) ContentType(string) string { return "application/problem+json" }
