package api

import "time"

// Domain is a name attached to an account.
type Domain struct {
	Name      string `json:"name" doc:"In A-labels."`
	Unicode   string `json:"unicode" doc:"As people read it."`
	ServedAs  string `json:"served_as" enum:"site,mirror,redirect,dns-only"`
	CountsAs  string `json:"counts_as" enum:"domains,subdomains,mirrors" doc:"The limit that it counts against."`
	Main      bool   `json:"main"`
	Root      string `json:"root,omitempty" doc:"Of a site: document root, relative to the home."`
	MirrorOf  string `json:"mirror_of,omitempty" doc:"Of a mirror: the domain whose content it shows."`
	Target    string `json:"target,omitempty" doc:"Of a redirect: where visitors are sent."`
	Code      int    `json:"code,omitempty" doc:"Of a redirect: 301 or 308 for good, 302 or 307 for now (RFC 9110, section 15.4)."`
	KeepPath  bool   `json:"keep_path,omitempty" doc:"Of a redirect: whether the path that was asked for is appended."`
	KeepQuery bool   `json:"keep_query,omitempty" doc:"Of a redirect: whether what follows the question mark is appended."`
	Template  string `json:"template,omitempty" doc:"The template whose settings it follows where it has none of its own."`
	Own       int    `json:"own" doc:"How many settings are its own."`
	Folders   int    `json:"folders" doc:"How many folders are protected."`
	// Proof is absent where it is known whose the domain is, or nobody asks.
	Proof   *DomainProof `json:"proof,omitempty" doc:"What shows that the domain is its account's, and is still missing."`
	Version int64        `json:"version" doc:"Counts changes; the ETag."`
}

// DomainLine is a line of the list of domains.
type DomainLine struct {
	Domain
	Account   string `json:"account" doc:"Sign-in name of the account."`
	AccountID int64  `json:"account_id"`
	Server    string `json:"server"`
}

// DomainPage is a page of the list of domains.
type DomainPage struct {
	Domains []DomainLine `json:"domains"`
	Next    string       `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// DomainProof is what DNS has to show before a domain is taken for its account's.
type DomainProof struct {
	Waiting bool       `json:"waiting" doc:"It is served when that is shown."`
	Record  string     `json:"record" doc:"Name of the TXT record to set."`
	Text    string     `json:"text" doc:"What the record is to say."`
	AskedAt *time.Time `json:"asked_at,omitempty" doc:"When DNS was asked last."`
	Failed  string     `json:"failed,omitempty" doc:"What was missing then."`
}

// ProofRequest is how a domain is to be proved.
type ProofRequest struct {
	Vouch bool `json:"vouch,omitempty" doc:"An operator's word for it, instead of asking DNS."`
}

// DomainDetail is a domain with everything about it.
type DomainDetail struct {
	Domain
	Account   string    `json:"account" doc:"Sign-in name of the account."`
	AccountID int64     `json:"account_id"`
	Home      string    `json:"home" doc:"Path of the home on the server."`
	Addresses []string  `json:"addresses" doc:"Of the server."`
	Mirrors   []string  `json:"mirrors" doc:"Domains that show this one's content."`
	Settings  []Setting `json:"settings" doc:"Every setting with its value and where that comes from; of a mirror, those of the site it shows."`
	Protected []Folder  `json:"protected" doc:"Protected folders."`
	Warnings  []Warning `json:"warnings" doc:"What keeps visitors from the site's files."`
}

// Setting is the value of one setting of a site.
type Setting struct {
	Key     string `json:"key"`
	Value   any    `json:"value" doc:"As the kind of the setting wants it."`
	Source  string `json:"source,omitempty" doc:"“site”, or the template; absent where nothing is set."`
	Bounded string `json:"bounded,omitempty" doc:"Why it is less than what is set, if so."`
}

// SettingInfo describes a setting of sites.
type SettingInfo struct {
	Key     string   `json:"key"`
	Kind    string   `json:"kind" enum:"switch,choice,choices,size,seconds,number,path,paths,networks,zone,map,text,version" doc:"What its values are: true or false; one or some of the choices; a number of bytes, seconds or things; file names; addresses and networks; a time zone; an object with texts; a text with lines; a version."`
	Title   string   `json:"title" doc:"The setting in words."`
	About   string   `json:"about,omitempty" doc:"What it is good for."`
	Group   string   `json:"group"`
	Default any      `json:"default"`
	Choices []string `json:"choices,omitempty"`
	Least   int64    `json:"least,omitempty"`
	Most    int64    `json:"most,omitempty"`
}

// SettingList is all settings of sites, in the order in which people read them.
type SettingList struct {
	Settings []SettingInfo `json:"settings"`
}

// NewDomain adds a domain to an account.
type NewDomain struct {
	Domain string `json:"domain" minLength:"1" maxLength:"2048" doc:"As typed; what has only one meaning is put right."`
	Serving
}

// Serving is how a domain is to be served; what is absent is as it was, or as is usual.
type Serving struct {
	ServedAs  string `json:"served_as,omitempty" enum:"site,mirror,redirect,dns-only" doc:"A site of its own at first."`
	Root      string `json:"root,omitempty" maxLength:"512" doc:"Document root, below the home; sites/DOMAIN at first."`
	MirrorOf  string `json:"mirror_of,omitempty" maxLength:"300" doc:"The account's site whose content a mirror shows."`
	Target    string `json:"target,omitempty" maxLength:"2000" doc:"Where a redirect leads; https:// is put before what has no scheme."`
	Code      int    `json:"code,omitempty" doc:"301 (at first), 302, 307 or 308."`
	KeepPath  *bool  `json:"keep_path,omitempty" doc:"Whether a redirect appends the path that was asked for; at first it does."`
	KeepQuery *bool  `json:"keep_query,omitempty" doc:"Whether a redirect appends what follows the question mark; at first it does."`
}

// DomainChange changes how a domain is served; what is absent stays.
type DomainChange struct {
	Serving
	MoveFiles    bool           `json:"move_files,omitempty" doc:"With a new document root: true to have the files moved there. They stay where they are otherwise."`
	Template     *string        `json:"template,omitempty" maxLength:"81" doc:"A template to follow, empty for none; for operators and resellers."`
	Settings     map[string]any `json:"settings,omitempty" doc:"Settings of the site itself; null lets the template's or the usual value return."`
	HSTSAccepted bool           `json:"hsts_accepted,omitempty" doc:"True to confirm that browsers shall insist on TLS for longer than a day, which cannot be taken back."`
}

// DomainChanged is a domain that is being changed.
type DomainChanged struct {
	Domain      Domain   `json:"domain"`
	Corrections []string `json:"corrections" doc:"What was put right in the input."`
	Operation   int64    `json:"operation" doc:"Number of the operation that has it served so."`
	Version     int64    `json:"version"`
}

// LogPage is a part of a site's access log, in the combined log format: address, name of a
// protected folder's visitor, time, request, status, bytes, referring page and browser.
type LogPage struct {
	Lines []string `json:"lines"`
	Next  string   `json:"next" doc:"Give it as “after” to go on from here."`
}

// Folder is a protected folder of a site.
type Folder struct {
	ID    int64    `json:"id"`
	Path  string   `json:"path" doc:"Below the document root; empty is the whole site."`
	Title string   `json:"title" doc:"What browsers show when they ask."`
	Users []string `json:"users" doc:"Who may come in."`
}

// NewFolder protects a folder.
type NewFolder struct {
	Path  string          `json:"path" maxLength:"512" doc:"Below the document root; empty is the whole site."`
	Title string          `json:"title,omitempty" maxLength:"80" doc:"What browsers show when they ask; “Protected” at first."`
	Users []NewFolderUser `json:"users,omitempty" maxItems:"500"`
}

// NewFolderUser lets somebody into a protected folder.
type NewFolderUser struct {
	Name     string `json:"name" minLength:"1" maxLength:"64"`
	Password string `json:"password" minLength:"8" maxLength:"72" doc:"8 to 72 octets; kept as a bcrypt hash."`
}

// FolderPassword sets the password of somebody who may see a protected
// folder, and lets them in if they may not yet.
type FolderPassword struct {
	Password string `json:"password" minLength:"8" maxLength:"72" doc:"8 to 72 octets; kept as a bcrypt hash."`
}

// FolderChanged is a folder that is being protected.
type FolderChanged struct {
	Folder    Folder `json:"folder"`
	Operation int64  `json:"operation"`
}

// Template is a named set of settings that sites follow.
type Template struct {
	Name     string         `json:"name" doc:"Lower-case letters, digits and hyphens."`
	Reseller string         `json:"reseller,omitempty" doc:"Whose template it is; absent for the operator's."`
	About    string         `json:"about,omitempty"`
	Settings map[string]any `json:"settings" doc:"Only what the template sets."`
	Records  []NewRecord    `json:"records" doc:"What it adds to the zones of domains that follow it; names are relative to each zone."`
	Sites    int64          `json:"sites" doc:"How many sites follow it."`
	Plans    int64          `json:"plans" doc:"How many plans give it to new sites."`
	Mine     bool           `json:"mine" doc:"Whether whoever asks may change it."`
	Version  int64          `json:"version" doc:"Counts changes; the ETag."`
}

// TemplateList is all templates that can be used.
type TemplateList struct {
	Templates []Template `json:"templates"`
}

// NewTemplate describes a template to be added.
type NewTemplate struct {
	Name     string         `json:"name" minLength:"1" maxLength:"40" doc:"2 to 40 lower-case letters, digits and hyphens."`
	Reseller string         `json:"reseller,omitempty" maxLength:"40" doc:"Whose template it is to be, for operators."`
	About    string         `json:"about,omitempty" maxLength:"300" doc:"What it is good for."`
	Settings map[string]any `json:"settings,omitempty"`
	Records  []NewRecord    `json:"records,omitempty" maxItems:"200" doc:"What it adds to the zones of domains that follow it; names are relative to each zone."`
}

// TemplateChange changes a template and the sites that follow it; what is absent stays.
type TemplateChange struct {
	About    *string        `json:"about,omitempty" maxLength:"300"`
	Settings map[string]any `json:"settings,omitempty" doc:"Null takes a setting out of the template."`
	Records  *[]NewRecord   `json:"records,omitempty" maxItems:"200" doc:"All records that it is to add to zones."`
}

// TemplateChanged is a template that was changed, and what came of it.
type TemplateChanged struct {
	Template  Template `json:"template"`
	Sites     int64    `json:"sites_changed" doc:"How many sites are served differently."`
	Operation int64    `json:"operation,omitempty" doc:"Number of the operation that tells the servers."`
	Version   int64    `json:"version"`
}

// Trace tells what answers for a name.
type Trace struct {
	Name      string         `json:"name" doc:"In A-labels."`
	Unicode   string         `json:"unicode"`
	Rule      string         `json:"rule" doc:"Why, in words."`
	Site      *Domain        `json:"site,omitempty" doc:"What answers, if it is yours to see."`
	Account   string         `json:"account,omitempty" doc:"Its account's sign-in name."`
	Server    string         `json:"server,omitempty" doc:"Label of its server."`
	Ours      []string       `json:"ours" doc:"Addresses of that server."`
	PublicDNS []TraceAddress `json:"public_dns" doc:"Addresses that public DNS gives for the name."`
	Failed    string         `json:"failed,omitempty" doc:"Why DNS could not be asked, if so."`
	Asked     []TraceAnswer  `json:"asked" doc:"What the server answers under the name, asked just now."`
	Verdict   string         `json:"verdict" doc:"What it comes to, in one sentence."`
	Right     bool           `json:"right" doc:"Whether visitors get there what is meant to be served."`
}

// TraceAddress is one address of a name.
type TraceAddress struct {
	Address string `json:"address"`
	Server  string `json:"server,omitempty" doc:"Which server of ours has it, for those who may know."`
	Ours    bool   `json:"ours" doc:"Whether it is an address of a server of this installation."`
	Right   bool   `json:"right" doc:"Whether it is an address of the server that serves the name."`
}

// TraceAnswer is what a server said.
type TraceAnswer struct {
	URL      string `json:"url"`
	Status   int    `json:"status,omitempty"`
	Location string `json:"location,omitempty" doc:"Where a redirect leads."`
	Failed   string `json:"failed,omitempty" doc:"Why there was no answer."`
}
