package api

import (
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

// Plan is a named set of limits and features.
type Plan struct {
	Name     string          `json:"name" doc:"Lower-case letters, digits and hyphens."`
	Reseller string          `json:"reseller,omitempty" doc:"Whose plan it is; absent for the operator's."`
	Limits   plans.Limits    `json:"limits" doc:"An amount for every limit."`
	Features plans.Features  `json:"features" doc:"Whether each feature is on."`
	Template string          `json:"template,omitempty" doc:"The template that new sites follow."`
	Accounts int64           `json:"accounts" doc:"How many accounts are on the plan."`
	Warnings []refusal.Field `json:"warnings" doc:"What can be kept but will not work in practice."`
	Version  int64           `json:"version" doc:"Counts changes; the ETag."`
}

// LimitList is all limits and features there are, in the order in which people read them.
type LimitList struct {
	Limits   []LimitInfo   `json:"limits"`
	Features []FeatureInfo `json:"features"`
}

// FeatureInfo describes a feature.
type FeatureInfo struct {
	Key   string `json:"key"`
	Title string `json:"title" doc:"The feature in words."`
}

// LimitInfo describes a limit.
type LimitInfo struct {
	Key   string `json:"key"`
	Unit  string `json:"unit" enum:"bytes,count,percent,seconds"`
	Title string `json:"title" doc:"The limit in words."`
	Bound bool   `json:"bound" doc:"Whether it bounds one thing or a rate, and is not used up."`
	// Default is what a plan gives that says nothing of it.
	Default *int64 `json:"default" doc:"What a plan gives that says nothing of it; null is unlimited."`
}

// AllLimits returns the limits and features there are.
func AllLimits(tag string) LimitList {
	list := LimitList{}
	for _, info := range plans.AllLimits {
		var given *int64
		if d := info.Default(); !d.Unlimited {
			given = &d.N
		}
		list.Limits = append(list.Limits, LimitInfo{Key: string(info.Key), Unit: string(info.Unit),
			Title: info.Text().In(tag), Bound: info.Bound, Default: given})
	}
	for _, f := range plans.AllFeatures {
		list.Features = append(list.Features, FeatureInfo{Key: string(f), Title: language.Plain(f.Title()).In(tag)})
	}
	return list
}

// NewPlan describes a plan to be added.
type NewPlan struct {
	Name     string         `json:"name" minLength:"1" maxLength:"40" doc:"2 to 40 lower-case letters, digits and hyphens."`
	Reseller string         `json:"reseller,omitempty" maxLength:"40" doc:"Whose plan it is to be, for operators; a reseller's are always their own."`
	Like     string         `json:"like,omitempty" maxLength:"81" doc:"A plan from which everything is taken that is left out here."`
	Limits   plans.Limits   `json:"limits,omitempty" doc:"Amounts; a limit that is left out is 0, null is unlimited."`
	Features plans.Features `json:"features,omitempty" doc:"Switches; a feature that is left out is off."`
	Template string         `json:"template,omitempty" maxLength:"81" doc:"A template for new sites."`
}

// PlanChange changes a plan; what is absent stays.
type PlanChange struct {
	Name     string         `json:"name,omitempty" maxLength:"40" doc:"A new name."`
	Limits   plans.Limits   `json:"limits,omitempty" doc:"The limits to change; null is unlimited."`
	Features plans.Features `json:"features,omitempty" doc:"The features to switch."`
	Template *string        `json:"template,omitempty" maxLength:"81" doc:"A template for new sites, empty for none. Sites that are there stay with theirs."`
	Freeze   string         `json:"freeze,omitempty" enum:"none,over,all" doc:"Which accounts stay on their present limits: none (the default), those that would be over the new ones, or all."`
}

// PlanChanged is a plan that was changed, and what came of it.
type PlanChanged struct {
	Plan      Plan  `json:"plan"`
	Accounts  int64 `json:"accounts_changed" doc:"How many accounts may use more or less than before."`
	Frozen    int64 `json:"accounts_frozen" doc:"How many stay on their limits."`
	Operation int64 `json:"operation,omitempty" doc:"Number of the operation that tells the servers, if they have to know."`
}

// PlanPage is a page of plans.
type PlanPage struct {
	Plans []Plan `json:"plans"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// PlanComparison is plans side by side.
type PlanComparison struct {
	Plans []string        `json:"plans" doc:"Names, in the order of the columns."`
	Rows  []ComparisonRow `json:"rows" doc:"Every limit, then every feature."`
}

// ComparisonRow is one limit or feature of several plans.
type ComparisonRow struct {
	Limit   string   `json:"limit,omitempty" doc:"Key of the limit, if it is one."`
	Feature string   `json:"feature,omitempty" doc:"The feature, if it is one."`
	Title   string   `json:"title" doc:"In words."`
	Unit    string   `json:"unit,omitempty" enum:"bytes,count,percent,seconds"`
	Amounts []*int64 `json:"amounts,omitempty" doc:"For each plan; null is unlimited."`
	On      []bool   `json:"on,omitempty" doc:"For each plan."`
	Differs bool     `json:"differs" doc:"Whether the plans are not all the same here."`
}

// Exception is a limit or feature set by hand on one account.
type Exception struct {
	Limit   string     `json:"limit,omitempty" doc:"Key of the limit, if it is one."`
	Amount  *int64     `json:"amount" doc:"Of a limit; null is unlimited."`
	Feature string     `json:"feature,omitempty" doc:"The feature, if it is one."`
	On      bool       `json:"on,omitempty" doc:"Whether the feature is switched on."`
	Reason  string     `json:"reason"`
	Author  string     `json:"author" doc:"Who set it."`
	SetAt   time.Time  `json:"set_at"`
	EndsAt  *time.Time `json:"ends_at" doc:"When the plan's value returns; null is never."`
}

// NewException sets a limit or a feature by hand; one that is there already is replaced.
type NewException struct {
	Limit   string      `json:"limit,omitempty" maxLength:"40" doc:"Key of the limit; either this or feature."`
	Amount  GivenAmount `json:"amount,omitzero" required:"false" doc:"Of the limit; null is unlimited."`
	Feature string      `json:"feature,omitempty" maxLength:"40"`
	On      *bool       `json:"on,omitempty" doc:"Whether the feature is on."`
	Reason  string      `json:"reason" minLength:"1" maxLength:"500" doc:"Why; whoever looks at the account, the customer too, can read it."`
	EndsAt  *time.Time  `json:"ends_at,omitempty" doc:"When the plan's value returns; absent is never."`
}

// GivenAmount is an amount that may be left out, in which null is unlimited.
type GivenAmount struct {
	plans.Amount
	Given bool
}

// UnmarshalJSON reads a number, or null for unlimited.
func (g *GivenAmount) UnmarshalJSON(text []byte) error {
	g.Given = true
	return g.Amount.UnmarshalJSON(text)
}

// IsZero reports whether the amount was left out.
func (g GivenAmount) IsZero() bool { return !g.Given }

// ExceptionList is all exceptions of an account.
type ExceptionList struct {
	Exceptions []Exception `json:"exceptions"`
}

// Shift puts accounts on another plan.
type Shift struct {
	Accounts       []string `json:"accounts" minItems:"1" maxItems:"1000" doc:"Numbers, sign-in names or domains."`
	DropExceptions bool     `json:"drop_exceptions,omitempty" doc:"True to remove what was set by hand; otherwise it stays over the new plan."`
}

// Shifted is what came of putting accounts on another plan.
type Shifted struct {
	Plan      string   `json:"plan"`
	Effects   []Effect `json:"effects" doc:"For each account."`
	Operation int64    `json:"operation,omitempty" doc:"Number of the operation that tells the servers, if they have to know."`
}

// TermsChanged is what came of a change to what one account may use.
type TermsChanged struct {
	Effect    Effect `json:"effect"`
	Operation int64  `json:"operation,omitempty" doc:"Number of the operation that tells the server, if it has to know."`
}

// Freeze keeps an account on its present terms when its plan changes, or no longer.
type Freeze struct {
	Frozen bool `json:"frozen"`
}

// Reseller sells accounts of their own.
type Reseller struct {
	Name        string         `json:"name" doc:"Lower-case letters, digits and hyphens."`
	Title       string         `json:"title" doc:"As people read it."`
	Email       string         `json:"email,omitempty" doc:"Contact address."`
	Measure     string         `json:"measure" enum:"allotted,used" doc:"Which sum is compared with the share."`
	Limits      plans.Limits   `json:"limits" doc:"The share: an amount for every limit."`
	Features    plans.Features `json:"features" doc:"The features they can switch on."`
	Accounts    int64          `json:"accounts"`
	Customers   int64          `json:"customers"`
	Plans       int64          `json:"plans"`
	NameServers []string       `json:"name_servers" doc:"Names of the name servers that their zones name; empty where they are the installation's."`
	Suspension  *Suspension    `json:"suspension,omitempty"`
	With        bool           `json:"accounts_suspended" doc:"Whether their accounts are suspended with them."`
	Version     int64          `json:"version" doc:"Counts changes; the ETag."`
}

// NewReseller describes a reseller to be added.
type NewReseller struct {
	Name     string         `json:"name" minLength:"1" maxLength:"40" doc:"2 to 40 lower-case letters, digits and hyphens."`
	Title    string         `json:"title" minLength:"1" maxLength:"200" doc:"As people read it."`
	Email    string         `json:"email,omitempty" maxLength:"254" doc:"Contact address."`
	Measure  string         `json:"measure,omitempty" enum:"allotted,used" doc:"Which sum is compared with the share; allotted where absent."`
	Limits   plans.Limits   `json:"limits" doc:"The share; a limit that is left out is 0, null is unlimited."`
	Features plans.Features `json:"features,omitempty" doc:"The features they can switch on."`
}

// ResellerChange changes a reseller; what is absent stays.
type ResellerChange struct {
	Title    string         `json:"title,omitempty" maxLength:"200"`
	Email    *string        `json:"email,omitempty" maxLength:"254"`
	Measure  string         `json:"measure,omitempty" enum:"allotted,used"`
	Limits   plans.Limits   `json:"limits,omitempty" doc:"The limits of the share to change; null is unlimited."`
	Features plans.Features `json:"features,omitempty" doc:"The features to switch."`
	Over     string         `json:"over,omitempty" enum:"keep" doc:"What becomes of what is given out beyond the new share: “keep” leaves it: no account can use more than the share itself, and nothing more can be given out there."`
}

// ResellerPage is a page of resellers.
type ResellerPage struct {
	Resellers []Reseller `json:"resellers"`
	Next      string     `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// Share is a reseller's share with both sums.
type Share struct {
	Reseller string      `json:"reseller"`
	Title    string      `json:"title"`
	Measure  string      `json:"measure" enum:"allotted,used" doc:"Which of the sums counts."`
	Accounts int64       `json:"accounts"`
	Lines    []ShareLine `json:"lines" doc:"Every limit."`
	Features []string    `json:"features" doc:"The features that can be switched on."`
}

// ShareLine is one limit of a share.
type ShareLine struct {
	Key      string `json:"key"`
	Unit     string `json:"unit" enum:"bytes,count,percent,seconds"`
	Title    string `json:"title" doc:"The limit in words."`
	Bound    bool   `json:"bound" doc:"Whether it bounds each account instead of being shared out."`
	Share    *int64 `json:"share" doc:"Null is unlimited."`
	Allotted *int64 `json:"allotted" doc:"Given out; of a bound, the most that an account has. Null is unlimited."`
	Used     int64  `json:"used"`
	Left     *int64 `json:"left" doc:"What remains by the measure; null is unlimited."`
	Over     bool   `json:"over" doc:"Whether more is taken than there is."`
}

// SuspendReseller suspends a reseller.
type SuspendReseller struct {
	Why      string `json:"why" minLength:"1" maxLength:"500" doc:"The reason; they are told when they try to sign in."`
	Accounts string `json:"accounts" enum:"stay,suspend" doc:"What becomes of their accounts: they stay as they are, or are suspended with the reseller."`
}

// ResellerSuspended is a reseller who was suspended or resumed, and what came of it.
type ResellerSuspended struct {
	Reseller  Reseller `json:"reseller"`
	Accounts  int64    `json:"accounts" doc:"How many accounts were suspended or resumed with them."`
	Operation int64    `json:"operation,omitempty" doc:"Number of the operation that tells the servers, if they have to know."`
}

// Brand is how a reseller looks to their customers.
type Brand struct {
	Title      string `json:"title,omitempty" maxLength:"60" doc:"Stands where the installation's title does."`
	Footer     string `json:"footer,omitempty" maxLength:"300" doc:"Below each page and each notice."`
	Bar        string `json:"bar,omitempty" maxLength:"40" doc:"Colour of the bar, #rrggbb; its text is light or dark as contrast asks."`
	Accent     string `json:"accent,omitempty" maxLength:"40" doc:"Colour of links and buttons, #rrggbb, dark enough to be read on paper."`
	SenderName string `json:"sender_name,omitempty" maxLength:"100" doc:"Of notices."`
	Sender     string `json:"sender,omitempty" maxLength:"254" doc:"Address of notices."`
}

// BrandInForce is the brand with what follows from it.
type BrandInForce struct {
	Brand
	OnBar      string `json:"on_bar" doc:"Colour of text on the bar; empty with the bar's colour."`
	DarkAccent string `json:"dark_accent" doc:"The accent on dark paper."`
	Logo       string `json:"logo,omitempty" doc:"Path of the logo, if there is one."`
	Operation  int64  `json:"operation,omitempty" doc:"Number of the operation that tells the servers, whose own pages show it."`
	Version    int64  `json:"version" doc:"Counts changes; the ETag."`
}

// Customer owns accounts.
type Customer struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Reseller string    `json:"reseller,omitempty" doc:"Whose customer it is; absent for the operator's own."`
	Contact  string    `json:"contact,omitempty" doc:"Whom to ask for."`
	Email    string    `json:"email,omitempty" doc:"Contact address."`
	Phone    string    `json:"phone,omitempty"`
	Postal   string    `json:"postal,omitempty" doc:"Postal address, with line ends."`
	Language string    `json:"language" doc:"Of notices."`
	Accounts int64     `json:"accounts" doc:"How many accounts the customer has."`
	Since    time.Time `json:"since"`
	Version  int64     `json:"version" doc:"Counts changes; the ETag."`
}

// NewCustomer describes a customer to be added.
type NewCustomer struct {
	Name     string `json:"name" minLength:"1" maxLength:"200" doc:"Unique among the customers of one reseller, or the operator's, capitals aside."`
	Reseller string `json:"reseller,omitempty" maxLength:"40" doc:"Whose customer it is to be, for operators; a reseller's are always their own."`
	Contact  string `json:"contact,omitempty" maxLength:"200" doc:"Whom to ask for."`
	Email    string `json:"email,omitempty" maxLength:"254" doc:"Contact address."`
	Phone    string `json:"phone,omitempty" maxLength:"60"`
	Postal   string `json:"postal,omitempty" maxLength:"1000" doc:"Postal address, with line ends."`
	Language string `json:"language,omitempty" maxLength:"12" doc:"Of notices; en where absent."`
}

// CustomerChange changes a customer; what is absent stays.
type CustomerChange struct {
	Name     *string `json:"name,omitempty" minLength:"1" maxLength:"200"`
	Contact  *string `json:"contact,omitempty" maxLength:"200"`
	Email    *string `json:"email,omitempty" maxLength:"254"`
	Phone    *string `json:"phone,omitempty" maxLength:"60"`
	Postal   *string `json:"postal,omitempty" maxLength:"1000"`
	Language *string `json:"language,omitempty" maxLength:"12" doc:"What they read: one of GET /languages."`
}

// CustomerPage is a page of customers.
type CustomerPage struct {
	Customers []Customer `json:"customers"`
	Next      string     `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// Notes are what staff has written down about a customer, for itself.
type Notes struct {
	Notes string `json:"notes" maxLength:"20000"`
}

// Handover is what a customer needs to know to start. It holds no password.
type Handover struct {
	Account     string          `json:"account" doc:"Sign-in name of the account, for file transfer."`
	Customer    string          `json:"customer"`
	Language    string          `json:"language" doc:"Tag of RFC 5646, such as de."`
	From        string          `json:"from" doc:"Who hands over: the installation's title or the reseller's."`
	Footer      string          `json:"footer,omitempty"`
	Domains     []string        `json:"domains" doc:"As people read them; the main one first."`
	Addresses   []string        `json:"addresses" doc:"Addresses of the server, for address records elsewhere."`
	NameServers []string        `json:"name_servers" doc:"To be entered at the registrar; empty where DNS is hosted elsewhere."`
	Console     string          `json:"console" doc:"Where to sign in."`
	People      []string        `json:"people" doc:"Sign-in names for the console."`
	Plan        string          `json:"plan"`
	Limits      []HandoverLimit `json:"limits" doc:"The limits that people ask for first."`
	To          string          `json:"to,omitempty" doc:"The contact address, to which it would be mailed."`
	Text        string          `json:"text" doc:"All of it as text, in the customer's language."`
}

// HandoverLimit is one limit on a handover sheet.
type HandoverLimit struct {
	Title string `json:"title"`
	Value string `json:"value" doc:"In words."`
}
