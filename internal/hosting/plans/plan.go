package plans

import (
	"regexp"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Plan is a named set of limits and features.
type Plan struct {
	// Name is how people and order systems call it: lower-case letters, digits
	// and hyphens, 2 to 40 characters, so that it cannot be spelt two ways.
	Name string
	// Limits has an amount for every limit, Features a switch for every feature.
	Limits   Limits
	Features Features
}

var planName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// CheckName refuses what cannot be the name of a plan or of a reseller.
// What is "plan" or "reseller".
func CheckName(what, name string) error {
	if planName.MatchString(name) && len(name) >= 2 && len(name) <= 40 {
		return nil
	}
	return refusal.Input("name", "a %s's name has 2 to 40 lower-case letters, digits and single hyphens, and starts "+
		"with a letter", language.Plain(what))
}

// NewPlan checks a plan and completes it: limits not mentioned are zero,
// features not mentioned are off.
func NewPlan(name string, limits Limits, features Features) (Plan, error) {
	var wrong []refusal.Field
	if r := refusal.As(CheckName("plan", name)); r != nil {
		wrong = append(wrong, r.Fields...)
	}
	limits, wrongLimits := checkLimits(limits)
	features, wrongFeatures := checkFeatures(features)
	wrong = append(append(wrong, wrongLimits...), wrongFeatures...)
	if len(wrong) > 0 {
		return Plan{}, refusal.New(refusal.InvalidInput, "the plan cannot be kept as it is").At(wrong)
	}
	return Plan{Name: name, Limits: limits, Features: features}, nil
}

// With returns the plan with some of its limits and features replaced.
func (p Plan) With(name string, limits Limits, features Features) (Plan, error) {
	if name == "" {
		name = p.Name
	}
	l, f := Limits{}, Features{}
	for key, amount := range p.Limits {
		l[key] = amount
	}
	for key, amount := range limits {
		l[key] = amount
	}
	for feature, on := range p.Features {
		f[feature] = on
	}
	for feature, on := range features {
		f[feature] = on
	}
	return NewPlan(name, l, f)
}

// Terms returns what an account on the plan is sold. As is how the plan is called there.
func (p Plan) Terms(as string) Terms {
	return Terms{Limits: p.Limits, Features: p.Features, Source: language.New("plan %s", as)}
}

// leastDisk is the disk space below which an ordinary site does not fit: an
// installed application alone takes more.
const leastDisk = 50 * MiB

// depend says which limits mean nothing while a feature is off.
var depend = []struct {
	feature Feature
	limits  []Key
}{
	{"mail", []Key{Mailboxes, Addresses, Lists}},
	{"databases", []Key{Databases}},
	{"tasks", []Key{Tasks}},
	{"logins", []Key{Logins}},
	{"backups", []Key{BackupsKept}},
}

// Warnings tells what about a plan can be kept but will not work in
// practice. The fields are as in the API.
func (p Plan) Warnings() []refusal.Field {
	var list []refusal.Field
	warn := func(name, format string, args ...any) {
		list = append(list, refusal.Wrong(name, format, args...))
	}
	l := p.Limits
	disk := l[Disk]
	if Of(leastDisk).Above(disk) {
		warn("limits.disk", "%s of disk is full after the first upload; a site needs %s or more", disk.Format(Bytes),
			FormatSize(leastDisk))
	}
	if size := l[MailboxSize]; !size.Unlimited && size.Above(disk) {
		warn("limits.mailbox_size", "a mailbox of %s does not fit into %s of disk", size.Format(Bytes),
			disk.Format(Bytes))
	}
	if l[Domains] == Of(0) {
		warn("limits.domains", "no account can be opened without a domain")
	}
	if files := l[Files]; Of(1000).Above(files) {
		warn("limits.files", "%s files are fewer than an installed application has", files.Format(Count))
	}
	if l[PHPWorkers] == Of(0) {
		warn("limits.php_workers", "0 is kept as 1: a site without PHP still answers")
	}
	if memory := l[Memory]; l[PHPMemory].Above(memory) {
		warn("limits.php_memory", "a PHP request of %s does not fit into %s of memory", l[PHPMemory].Format(Bytes),
			memory.Format(Bytes))
	}
	if Of(l[PHPWorkers].N + 2).Above(l[Processes]) {
		warn("limits.processes", "%s processes are fewer than %s PHP requests at the same time need",
			l[Processes].Format(Count), l[PHPWorkers].Format(Count))
	}
	for _, d := range depend {
		any := false
		for _, key := range d.limits {
			if l[key] == Of(0) {
				continue
			}
			any = true
			if !p.Features[d.feature] {
				info, _ := Info(key)
				warn("limits."+string(key), "%s %s cannot be used while the feature %s is off",
					l[key].Format(info.Unit), info.Title, d.feature)
			}
		}
		if p.Features[d.feature] && !any {
			warn("features."+string(d.feature), "is on, but its limits are all 0")
		}
	}
	if p.Features["mail"] && l[Mailboxes] != Of(0) && l[MailboxSize] == Of(0) {
		warn("limits.mailbox_size", "mailboxes of 0B can hold no message")
	}
	if p.Features["mail"] && l[Mailboxes] != Of(0) && l[SendsPerHour] == Of(0) {
		warn("limits.sends_per_hour", "mailboxes that may send 0 messages per hour can only receive")
	}
	for _, f := range []Feature{"dnssec", "wildcard"} {
		if p.Features[f] && !p.Features["dns"] {
			warn("features."+string(f), "needs the feature dns")
		}
	}
	if p.Features["wildcard"] && !p.Features["certificates"] {
		warn("features.wildcard", "needs the feature certificates")
	}
	return list
}

// Row is one line of a comparison: a limit with an amount for each
// plan, or a feature with a switch for each.
type Row struct {
	Limit   *LimitInfo
	Amounts []Amount
	Feature Feature
	On      []bool
	// Differs says that not all plans are the same here.
	Differs bool
}

// Compare lays plans side by side, in the order of [AllLimits] and [AllFeatures].
func Compare(list []Plan) []Row {
	rows := make([]Row, 0, len(AllLimits)+len(AllFeatures))
	for _, info := range AllLimits {
		row := Row{Limit: &info}
		for _, p := range list {
			row.Amounts = append(row.Amounts, p.Limits[info.Key])
			row.Differs = row.Differs || p.Limits[info.Key] != list[0].Limits[info.Key]
		}
		rows = append(rows, row)
	}
	for _, f := range AllFeatures {
		row := Row{Feature: f}
		for _, p := range list {
			row.On = append(row.On, p.Features[f])
			row.Differs = row.Differs || p.Features[f] != list[0].Features[f]
		}
		rows = append(rows, row)
	}
	return rows
}
