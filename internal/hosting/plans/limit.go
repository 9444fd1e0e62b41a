// Package plans decides what an account may use: limits, features, plans and
// the allowance that comes of them.
package plans

import (
	"encoding/json"
	"fmt"
	"math"
	"sort"
	"strconv"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Key names a limit. The keys are JSON keys of the API.
type Key string

// The limits. What each one counts, and in which unit, is in [Limits].
const (
	Disk         Key = "disk"
	Files        Key = "files"
	Traffic      Key = "traffic"
	Domains      Key = "domains"
	Subdomains   Key = "subdomains"
	Mirrors      Key = "mirrors"
	Mailboxes    Key = "mailboxes"
	MailboxSize  Key = "mailbox_size"
	Addresses    Key = "addresses"
	Lists        Key = "lists"
	Databases    Key = "databases"
	DatabaseSize Key = "database_size"
	Logins       Key = "logins"
	Tasks        Key = "tasks"
	SendsPerHour Key = "sends_per_hour"
	BounceShare  Key = "bounce_share"
	PHPWorkers   Key = "php_workers"
	PHPMemory    Key = "php_memory"
	PHPTime      Key = "php_time"
	Processes    Key = "processes"
	Memory       Key = "memory"
	CPU          Key = "cpu"
	UploadSize   Key = "upload_size"

	SiteConnections    Key = "site_connections"
	VisitorConnections Key = "visitor_connections"
	BackupsKept        Key = "backups_kept"
)

// Unit is what a limit's number counts.
type Unit string

// The units.
const (
	Bytes   Unit = "bytes"
	Count   Unit = "count"
	Percent Unit = "percent"
	Seconds Unit = "seconds"
)

// LimitInfo describes one limit for people and for checks.
type LimitInfo struct {
	Key   Key
	Unit  Unit
	Title string
	// Bound says that the limit bounds one thing or a rate, such as the size of
	// the largest mailbox. Adding such limits up would mean nothing: a share bounds
	// each account's by itself. All others are drawn from a share.
	Bound bool
	// Floor is what is given where nothing is said: less would not do.
	Floor int64
	// Most is the highest number that means anything; 0 if there is none.
	Most int64
	// Free says that it is unlimited where nothing is said: nobody means that there is to be none.
	Free bool
	// Usual is what is given where nothing is said, if that is neither
	// the floor nor unlimited: so much that an ordinary account never
	// meets it, and so little that it takes nothing from others.
	Usual int64
}

// Default is what is given where nothing is said.
func (i LimitInfo) Default() Amount {
	switch {
	case i.Free:
		return Unlimited
	case i.Usual > 0:
		return Of(i.Usual)
	}
	return Of(i.Floor)
}

// What every plan gives to PHP at least.
const (
	PHPMemoryFloor = 128 * MiB
	PHPTimeFloor   = 30
)

// AllLimits lists every limit in the order in which people read them.
var AllLimits = []LimitInfo{
	{Key: Disk, Unit: Bytes, Title: "disk space"},
	{Key: Files, Unit: Count, Title: "files and directories", Free: true},
	{Key: Traffic, Unit: Bytes, Title: "traffic per calendar month"},
	{Key: Domains, Unit: Count, Title: "domains"},
	{Key: Subdomains, Unit: Count, Title: "subdomains"},
	{Key: Mirrors, Unit: Count, Title: "domains with the content of another"},
	{Key: Mailboxes, Unit: Count, Title: "mailboxes"},
	{Key: MailboxSize, Unit: Bytes, Title: "size of the largest mailbox", Bound: true},
	{Key: Addresses, Unit: Count, Title: "mail addresses beside mailboxes"},
	{Key: Lists, Unit: Count, Title: "distribution lists"},
	{Key: Databases, Unit: Count, Title: "databases"},
	{Key: DatabaseSize, Unit: Bytes, Title: "size of all databases", Free: true},
	{Key: Logins, Unit: Count, Title: "file-transfer logins"},
	{Key: Tasks, Unit: Count, Title: "scheduled tasks"},
	{Key: SendsPerHour, Unit: Count, Title: "messages sent per hour", Bound: true},
	{Key: BounceShare, Unit: Percent, Title: "share of bounced messages that stops sending", Bound: true,
		Most: 100},
	{Key: PHPWorkers, Unit: Count, Title: "PHP requests served at the same time", Bound: true},
	{Key: PHPMemory, Unit: Bytes, Title: "memory of a PHP request", Bound: true, Floor: PHPMemoryFloor},
	{Key: PHPTime, Unit: Seconds, Title: "longest run of a PHP request", Bound: true, Floor: PHPTimeFloor},
	{Key: Processes, Unit: Count, Title: "processes at the same time", Bound: true, Floor: 20, Usual: 100},
	{Key: Memory, Unit: Bytes, Title: "memory of all processes", Bound: true, Floor: 256 * MiB, Usual: 1024 * MiB},
	{Key: CPU, Unit: Percent, Title: "processor time (100% is one processor)", Bound: true, Floor: 10, Usual: 100},
	{Key: UploadSize, Unit: Bytes, Title: "size of the largest upload", Bound: true, Floor: 1 * MiB, Usual: 1024 * MiB},
	{Key: SiteConnections, Unit: Count, Title: "requests of a site at the same time", Bound: true, Floor: 10,
		Usual: 1000},
	{Key: VisitorConnections, Unit: Count, Title: "requests of one visitor of a site at the same time", Bound: true,
		Floor: 5, Usual: 200},
	{Key: BackupsKept, Unit: Count, Title: "backups kept", Bound: true},
}

// Feature names something switched on or off. Features are JSON keys of the API.
type Feature string

// AllFeatures lists every feature in the order in which people read them.
var AllFeatures = []Feature{"mail", "databases", "tasks", "shell", "logins", "backups", "dns", "dnssec", "certificates",
	"wildcard", "kits", "api", "file_browser", "raw_directives"}

// featureTitles are what people call the features whose keys do not say it.
var featureTitles = map[Feature]string{"tasks": "scheduled tasks", "shell": "shell access",
	"logins": "file-transfer logins", "dns": "DNS", "dnssec": "DNSSEC", "wildcard": "wildcard certificates",
	"kits": "starter content", "api": "API access", "file_browser": "file browser",
	"raw_directives": "raw web server directives"}

// Title is what people call the feature.
func (f Feature) Title() string {
	if title := featureTitles[f]; title != "" {
		return title
	}
	return string(f)
}

// Amount is the value of a limit: a number or unlimited (JSON null).
type Amount struct {
	N         int64
	Unlimited bool
}

// Unlimited is the amount that never runs out.
var Unlimited = Amount{Unlimited: true}

// Of returns the amount n.
func Of(n int64) Amount { return Amount{N: n} }

// MarshalJSON writes the number, or null for unlimited.
func (a Amount) MarshalJSON() ([]byte, error) {
	if a.Unlimited {
		return []byte("null"), nil
	}
	return json.Marshal(a.N)
}

// UnmarshalJSON reads a number, or null for unlimited.
func (a *Amount) UnmarshalJSON(text []byte) error {
	if string(text) == "null" {
		*a = Unlimited
		return nil
	}
	*a = Amount{}
	return json.Unmarshal(text, &a.N)
}

// Allows reports whether used stays within the amount.
func (a Amount) Allows(used int64) bool { return a.Unlimited || used <= a.N }

// Above reports whether the amount is more than other. Unlimited is more than
// every number, and not more than itself.
func (a Amount) Above(other Amount) bool {
	return !other.Unlimited && (a.Unlimited || a.N > other.N)
}

// Plus adds amounts; unlimited absorbs every number.
func (a Amount) Plus(other Amount) Amount {
	if a.Unlimited || other.Unlimited || a.N > math.MaxInt64-other.N {
		return Unlimited
	}
	return Of(a.N + other.N)
}

// Times returns n times the amount.
func (a Amount) Times(n int64) Amount {
	switch {
	case n == 0:
		return Of(0)
	case a.Unlimited || a.N > math.MaxInt64/n:
		return Unlimited
	}
	return Of(a.N * n)
}

// Minus returns what remains of the amount when used is gone: at least 0, and
// unlimited of an unlimited one.
func (a Amount) Minus(used int64) Amount {
	if a.Unlimited {
		return a
	}
	return Of(max(0, a.N-used))
}

// Format writes the amount for people, in the limit's unit.
func (a Amount) Format(unit Unit) language.Text {
	switch {
	case a.Unlimited:
		return language.New("unlimited")
	case unit == Bytes:
		return language.Plain(FormatSize(a.N))
	case unit == Percent:
		return language.Plain(fmt.Sprintf("%d%%", a.N))
	case unit == Seconds:
		return language.Plain(fmt.Sprintf("%ds", a.N))
	}
	return language.Plain(strconv.FormatInt(a.N, 10))
}

// Text is the title, to be said in any language.
func (i LimitInfo) Text() language.Text { return language.Plain(i.Title) }

// Limits gives an amount for every key of [AllLimits].
type Limits map[Key]Amount

// Features gives, for every feature of [AllFeatures], whether it is on.
type Features map[Feature]bool

// Info returns the description of a limit.
func Info(key Key) (LimitInfo, bool) {
	for _, info := range AllLimits {
		if info.Key == key {
			return info, true
		}
	}
	return LimitInfo{}, false
}

// checkLimits refuses unknown keys and impossible numbers and adds the keys
// that are missing as their floor, mostly zero: what a plan does not mention, it does not give, but
// for what is free.
func checkLimits(l Limits) (Limits, []refusal.Field) {
	var wrong []refusal.Field
	whole := Limits{}
	for _, info := range AllLimits {
		amount, given := l[info.Key]
		if !given {
			amount = info.Default()
		}
		name := "limits." + string(info.Key)
		if !amount.Unlimited && amount.N < 0 {
			wrong = append(wrong, refusal.Wrong(name, "cannot be negative; use null for unlimited"))
		}
		if info.Most > 0 && !amount.Unlimited && amount.N > info.Most {
			wrong = append(wrong, refusal.Wrong(name, "is at most %s", Of(info.Most).Format(info.Unit)))
		}
		if !amount.Unlimited && amount.N > 0 && amount.N < info.Floor {
			wrong = append(wrong, refusal.Wrong(name, "is at least %s", Of(info.Floor).Format(info.Unit)))
		}
		if amount == Of(0) {
			amount = Of(info.Floor)
		}
		whole[info.Key] = amount
	}
	var unknown []string
	for key := range l {
		if _, known := Info(key); !known {
			unknown = append(unknown, string(key))
		}
	}
	sort.Strings(unknown)
	for _, key := range unknown {
		wrong = append(wrong, refusal.Wrong("limits."+key, "there is no such limit"))
	}
	return whole, wrong
}

func checkFeatures(f Features) (Features, []refusal.Field) {
	var wrong []refusal.Field
	whole := Features{}
	for _, feature := range AllFeatures {
		whole[feature] = f[feature]
	}
	var unknown []string
	for feature := range f {
		if _, known := whole[feature]; !known {
			unknown = append(unknown, string(feature))
		}
	}
	sort.Strings(unknown)
	for _, feature := range unknown {
		wrong = append(wrong, refusal.Wrong("features."+feature, "there is no such feature"))
	}
	return whole, wrong
}
