package api

import "time"

// SignIn asks for a session.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"100" doc:"Sign-in name."`
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"Password."`
	Code     string `json:"code,omitempty" maxLength:"20" doc:"Code of the second factor, or a recovery code, if one is asked for."`
	Token    bool   `json:"token,omitempty" doc:"True to get a token in the answer instead of a cookie, for programs."`
	Language string `json:"language,omitempty" maxLength:"12" doc:"What the person has chosen to read from now on; absent leaves it."`
}

// LinkSignIn asks for a session by a one-time link.
type LinkSignIn struct {
	Link     string `json:"link" minLength:"1" maxLength:"200" doc:"The part of the link after “#”."`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"The new password, for a link that sets one."`
	Code     string `json:"code,omitempty" maxLength:"20" doc:"Code of the second factor, if one is asked for."`
	Token    bool   `json:"token,omitempty" doc:"True to get a token in the answer instead of a cookie, for programs."`
	Language string `json:"language,omitempty" maxLength:"12" doc:"What the person has chosen to read from now on; absent leaves it."`
}

// LanguageChoice chooses what one reads.
type LanguageChoice struct {
	Language string `json:"language" minLength:"1" maxLength:"12" doc:"One of GET /languages."`
}

// Languages lists the languages that the service speaks.
type Languages struct {
	Languages []string `json:"languages" doc:"Tags of RFC 5646, English first."`
}

// LinkCheck asks what a one-time link is for, without using it.
type LinkCheck struct {
	Link string `json:"link" minLength:"1" maxLength:"200" doc:"The part of the link after “#”."`
}

// LinkPurpose is what a one-time link is for.
type LinkPurpose struct {
	Name    string    `json:"name" doc:"Who signs in with it."`
	Purpose string    `json:"purpose" enum:"password,sign-in" doc:"Whether it sets a password, or signs in without one."`
	EndsAt  time.Time `json:"ends_at"`
}

// Forgotten asks for a link to set a new password.
type Forgotten struct {
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"Sign-in name."`
}

// Session is who is signed in.
type Session struct {
	Name        string        `json:"name" doc:"Sign-in name."`
	Role        string        `json:"role" enum:"operator,reseller,customer" doc:"As what the person works now."`
	Duty        string        `json:"duty" enum:"all,support,billing,read-only" doc:"What an operator does."`
	ReadOnly    bool          `json:"read_only"`
	Permissions []string      `json:"permissions" doc:"What the person may do now."`
	MustFirst   []string      `json:"must_first" enum:"password,second-factor" doc:"What has to be done about the sign-in before anything else."`
	Reseller    string        `json:"reseller,omitempty" doc:"The reseller the person is of."`
	CustomerID  int64         `json:"customer_id,omitempty" doc:"The customer the person is of, or acts as."`
	ActingAs    string        `json:"acting_as,omitempty" doc:"On whose behalf the person acts; absent when on their own."`
	EndsAt      time.Time     `json:"ends_at" doc:"When the session ends unless it is used before."`
	EndsLatest  time.Time     `json:"ends_latest" doc:"When it ends however much it is used."`
	Token       string        `json:"token,omitempty" doc:"Bearer token (RFC 6750), only when asked for at sign-in."`
	Language    string        `json:"language" doc:"What the person reads: answers to them are in it."`
	Title       string        `json:"title" doc:"What this console is called."`
	Brand       *BrandInForce `json:"brand,omitempty" doc:"The reseller's brand, for them and their customers."`
}

// ActAs asks to act on somebody's behalf; one of the two.
type ActAs struct {
	Customer int64  `json:"customer,omitempty" doc:"Number of the customer."`
	Reseller string `json:"reseller,omitempty" maxLength:"40" doc:"Name of the reseller."`
}

// PasswordChange changes one's own password.
type PasswordChange struct {
	Present string `json:"present" maxLength:"1000" doc:"The password until now."`
	New     string `json:"new" minLength:"1" maxLength:"1000"`
}

// PasswordCheck asks how well a password would hold.
type PasswordCheck struct {
	Password string   `json:"password" maxLength:"1000"`
	About    []string `json:"about,omitempty" maxItems:"20" doc:"What others know about the person: names, domains, addresses."`
}

// Strength is how well a password would hold.
type Strength struct {
	Bits    int      `json:"bits" doc:"Estimate of log2 of the guesses it takes."`
	Level   string   `json:"level" enum:"weak,fair,good,strong" doc:"Weak ones are refused."`
	Reasons []string `json:"reasons" doc:"What makes it weaker."`
	Advice  string   `json:"advice,omitempty"`
}

// GeneratedPassword is a new random password. It is not kept.
type GeneratedPassword struct {
	Password string `json:"password"`
	Bits     int    `json:"bits" doc:"log2 of the number of passwords like it."`
}

// SecondFactorSetup is what an authenticator needs (RFC 6238). It is
// shown once, and counts when a code of it was given.
type SecondFactorSetup struct {
	Secret string `json:"secret" doc:"Base32, for typing."`
	URI    string `json:"uri" doc:"otpauth address."`
	Image  string `json:"image" doc:"The address as a QR code: an SVG document."`
	Text   string `json:"text" doc:"The QR code in half blocks, for terminals."`
}

// Code is a code of the second factor.
type Code struct {
	Code string `json:"code" minLength:"6" maxLength:"20"`
}

// Proof is one's own password once more, before a safeguard is taken away.
type Proof struct {
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// RecoveryCodes are for the day when the authenticator is lost. Each
// works once; they are shown once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// SecondFactor is how one's second factor is.
type SecondFactor struct {
	On       bool       `json:"on"`
	Since    *time.Time `json:"since"`
	Required bool       `json:"required" doc:"Whether one's role must have it."`
	Left     int64      `json:"left" doc:"Recovery codes not used yet."`
}

// Person is somebody who can sign in.
type Person struct {
	Name         string     `json:"name" doc:"Sign-in name."`
	Role         string     `json:"role" enum:"operator,reseller,customer"`
	Duty         string     `json:"duty" enum:"all,support,billing,read-only" doc:"What an operator does."`
	Reseller     string     `json:"reseller,omitempty" doc:"Whose person, or whose customer's."`
	Customer     string     `json:"customer,omitempty" doc:"Name of the customer."`
	CustomerID   int64      `json:"customer_id,omitempty"`
	Email        string     `json:"email,omitempty" doc:"For links and notices about the sign-in."`
	Language     string     `json:"language" doc:"Tag of RFC 5646, such as de."`
	ReadOnly     bool       `json:"read_only" doc:"May look and change nothing."`
	MustChange   bool       `json:"must_change" doc:"Has to change the password first."`
	Password     bool       `json:"password" doc:"Whether a password is set; without one, a link is needed first."`
	SecondFactor bool       `json:"second_factor"`
	Networks     []string   `json:"networks" doc:"From where they may sign in; empty is from anywhere."`
	SeenAt       *time.Time `json:"seen_at" doc:"Last use of a session that is still there."`
	Since        time.Time  `json:"since"`
	Version      int64      `json:"version" doc:"Counts changes; the ETag."`
}

// NewPerson describes somebody who is to be able to sign in.
type NewPerson struct {
	Name       string   `json:"name" minLength:"1" maxLength:"100" doc:"Sign-in name: lower-case letters, digits, dots, hyphens, underscores, or a mail address."`
	Role       string   `json:"role,omitempty" enum:"operator,reseller,customer" doc:"Follows from customer or reseller where absent."`
	Duty       string   `json:"duty,omitempty" enum:"all,support,billing,read-only" doc:"Of an operator."`
	Reseller   string   `json:"reseller,omitempty" maxLength:"40" doc:"The reseller they are of."`
	Customer   int64    `json:"customer,omitempty" doc:"Number of the customer they are of."`
	Email      string   `json:"email,omitempty" maxLength:"254"`
	Language   string   `json:"language,omitempty" maxLength:"12" doc:"What they read: one of GET /languages."`
	ReadOnly   bool     `json:"read_only,omitempty"`
	Networks   []string `json:"networks,omitempty" maxItems:"50" doc:"Addresses or networks, such as 192.0.2.0/24."`
	Activation string   `json:"activation,omitempty" enum:"none,link,password" doc:"By a link that is mailed, by the password given here, or later (the default)."`
	Password   string   `json:"password,omitempty" maxLength:"1000"`
	MustChange bool     `json:"must_change,omitempty" doc:"True to have the password changed at the first sign-in."`
}

// PersonChange changes a person; what is absent stays.
type PersonChange struct {
	Duty     *string   `json:"duty,omitempty" enum:"all,support,billing,read-only"`
	Email    *string   `json:"email,omitempty" maxLength:"254"`
	Language *string   `json:"language,omitempty" maxLength:"12" doc:"What they read: one of GET /languages."`
	ReadOnly *bool     `json:"read_only,omitempty"`
	Networks *[]string `json:"networks,omitempty" maxItems:"50"`
}

// NewPassword gives somebody else a new password.
type NewPassword struct {
	Password   string `json:"password" minLength:"1" maxLength:"1000"`
	MustChange bool   `json:"must_change,omitempty" doc:"True to have it changed at the next sign-in."`
}

// NewLink asks for a one-time link.
type NewLink struct {
	Purpose string `json:"purpose" enum:"password,sign-in" doc:"Whether it sets a password, or signs in without one."`
	Mail    bool   `json:"mail,omitempty" doc:"True to mail it to the person instead of showing it here."`
}

// Link is a one-time link.
type Link struct {
	URL    string    `json:"url,omitempty" doc:"Shown once; absent if it was mailed."`
	Mailed string    `json:"mailed,omitempty" doc:"The address it was mailed to."`
	EndsAt time.Time `json:"ends_at"`
}

// PersonPage is a page of people.
type PersonPage struct {
	People []Person `json:"people"`
	Next   string   `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// OpenSession is a session of one's own.
type OpenSession struct {
	ID        int64     `json:"id"`
	This      bool      `json:"this" doc:"Whether it is the one that asks."`
	Address   string    `json:"address" doc:"From where it was started."`
	Program   string    `json:"program" doc:"What the browser or client calls itself."`
	StartedAt time.Time `json:"started_at"`
	SeenAt    time.Time `json:"seen_at"`
	EndsAt    time.Time `json:"ends_at"`
}

// OpenSessions is all sessions of one's own.
type OpenSessions struct {
	Sessions []OpenSession `json:"sessions"`
}

// Token lets a program in.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Scopes    []string   `json:"scopes" doc:"Permissions; what its person may not do, it may not either."`
	Networks  []string   `json:"networks" doc:"From where it may be used; empty is from anywhere."`
	EndsAt    *time.Time `json:"ends_at" doc:"Null is never."`
	UsedAt    *time.Time `json:"used_at"`
	UsedFrom  string     `json:"used_from,omitempty"`
	CreatedAt time.Time  `json:"created_at"`
	Secret    string     `json:"secret,omitempty" doc:"For the Authorization header; shown once."`
}

// NewToken describes a token to be made.
type NewToken struct {
	Name     string     `json:"name" minLength:"1" maxLength:"100" doc:"What it is for."`
	Scopes   []string   `json:"scopes" minItems:"1" maxItems:"100" doc:"Permissions, such as accounts.read."`
	Networks []string   `json:"networks,omitempty" maxItems:"50" doc:"Addresses or networks, such as 192.0.2.0/24."`
	EndsAt   *time.Time `json:"ends_at,omitempty"`
}

// TokenList is all tokens of one's own.
type TokenList struct {
	Tokens []Token `json:"tokens"`
}

// Scope is a permission that a token can be given.
type Scope struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Yours bool   `json:"yours" doc:"Whether one has it oneself."`
}

// ScopeList is all scopes.
type ScopeList struct {
	Scopes []Scope `json:"scopes"`
}

// Event is one line of the record of who did what.
type Event struct {
	ID       int64        `json:"id"`
	At       time.Time    `json:"at"`
	Actor    string       `json:"actor"`
	OnBehalf string       `json:"on_behalf,omitempty" doc:"As whom the actor acted."`
	Address  string       `json:"address" doc:"From where; empty for people of somebody else, except to operators."`
	Request  string       `json:"request" doc:"Number of the request."`
	Action   string       `json:"action" doc:"Such as plan.change."`
	Title    string       `json:"title" doc:"What people call that, such as Change plan."`
	Subject  string       `json:"subject"`
	Fields   []Difference `json:"fields" doc:"What changed, without secrets."`
}

// EventPage is a page of events, newest first.
type EventPage struct {
	Events []Event `json:"events"`
	Next   string  `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}

// Settings are the installation's.
type Settings struct {
	Title          string   `json:"title" doc:"What the installation is called."`
	Console        string   `json:"console" doc:"Where people reach the console, such as https://console.ternisland.example."`
	NameServers    []string `json:"name_servers" doc:"To be entered at registrars."`
	DomainProof    string   `json:"domain_proof" enum:"off,warn,require" doc:"What is asked of domains that customers and resellers bring: nothing; that DNS shows them to be theirs, with a warning until it does; or the same, and they are not served until it does."`
	ChallengeZone  string   `json:"challenge_zone,omitempty" doc:"A name in a zone of ours: domains whose DNS is hosted elsewhere lead the names of challenges below it, once and for good."`
	SecondFactor   []string `json:"second_factor" doc:"The roles that must have a second factor."`
	SessionMinutes int      `json:"session_minutes" doc:"How long a session lasts without use."`
	MailServer     string   `json:"mail_server" doc:"Host and port of the server that takes mail; empty sends none."`
	MailSecurity   string   `json:"mail_security" enum:"tls,starttls,none"`
	MailName       string   `json:"mail_name,omitempty" doc:"Sign-in name there."`
	MailPassword   bool     `json:"mail_password" doc:"Whether there is a password for it; it cannot be looked up."`
	Sender         string   `json:"sender" doc:"Address of notices."`
	KitKeys        []string `json:"kit_keys" doc:"Public keys of minisign or SSH; with any, kits must be signed with one of them."`
	MailDays       int      `json:"mail_days" doc:"For how many days messages wait that cannot be delivered; then they go back to their senders."`
	Spam           Spam     `json:"spam"`
	Operation      int64    `json:"operation,omitempty" doc:"Number of the operation that tells the servers, whose own pages show it."`
	Version        int64    `json:"version" doc:"Counts changes; the ETag."`
}

// Spam is what mail servers do about unwanted messages. They take over a change within a minute.
type Spam struct {
	JunkAbove   float64  `json:"junk_above" doc:"From how many points on a message goes to Junk; mailboxes may have a bound of their own."`
	RefuseAbove float64  `json:"refuse_above" doc:"From how many points on a message is not taken, nor sent."`
	Greylisting bool     `json:"greylisting" doc:"Whether suspicious messages must be sent once more, minutes later."`
	Blocklists  []string `json:"blocklists" doc:"Zones of DNS that name addresses which nothing is taken from (RFC 5782)."`
	Forbidden   []string `json:"forbidden" doc:"What names of attachments must not end with, such as exe."`
	Scanner     string   `json:"scanner" doc:"Where a virus scanner listens that speaks clamd's protocol: a path on the mail server, or host:port; empty is none."`
}

// SpamChange changes what mail servers do about unwanted messages; what is absent stays.
type SpamChange struct {
	JunkAbove   *float64  `json:"junk_above,omitempty" minimum:"1" maximum:"100"`
	RefuseAbove *float64  `json:"refuse_above,omitempty" minimum:"1" maximum:"100"`
	Greylisting *bool     `json:"greylisting,omitempty"`
	Blocklists  *[]string `json:"blocklists,omitempty" maxItems:"10"`
	Forbidden   *[]string `json:"forbidden,omitempty" maxItems:"100"`
	Scanner     *string   `json:"scanner,omitempty" maxLength:"262"`
}

// SettingsChange changes settings; what is absent stays.
type SettingsChange struct {
	Title          *string   `json:"title,omitempty" minLength:"1" maxLength:"100"`
	Console        *string   `json:"console,omitempty" maxLength:"300"`
	NameServers    *[]string `json:"name_servers,omitempty" maxItems:"8"`
	DomainProof    *string   `json:"domain_proof,omitempty" enum:"off,warn,require"`
	ChallengeZone  *string   `json:"challenge_zone,omitempty" maxLength:"200" doc:"Empty has none."`
	SecondFactor   *[]string `json:"second_factor,omitempty" maxItems:"3"`
	SessionMinutes *int      `json:"session_minutes,omitempty" minimum:"5" maximum:"720"`
	MailServer     *string   `json:"mail_server,omitempty" maxLength:"300"`
	MailSecurity   *string   `json:"mail_security,omitempty" enum:"tls,starttls,none"`
	MailName       *string   `json:"mail_name,omitempty" maxLength:"200"`
	MailPassword   *string   `json:"mail_password,omitempty" maxLength:"1000"`
	Sender         *string   `json:"sender,omitempty" maxLength:"254"`
	MailDays       *int      `json:"mail_days,omitempty" minimum:"1" maximum:"14"`
	KitKeys        *[]string `json:"kit_keys,omitempty" maxItems:"50"`

	Spam *SpamChange `json:"spam,omitempty"`
}

// MailTest asks for a message that shows whether mail goes out.
type MailTest struct {
	To string `json:"to" minLength:"3" maxLength:"254"`
}

// Mail is a message on its way out. Its text is not kept.
type Mail struct {
	Kind      string     `json:"kind" doc:"What it is about."`
	To        string     `json:"to"`
	State     string     `json:"state" enum:"waiting,sent,failed"`
	Failure   string     `json:"failure,omitempty" doc:"What the mail server said last."`
	CreatedAt time.Time  `json:"created_at"`
	SentAt    *time.Time `json:"sent_at"`
}

// MailList is the messages to a customer, newest first.
type MailList struct {
	Mails []Mail `json:"mails"`
}
