package api

// Zone is the part of public DNS that belongs to one
// domain of an account, with the names below it.
type Zone struct {
	Name        string   `json:"name" doc:"In A-labels."`
	Unicode     string   `json:"unicode" doc:"As people read it."`
	Account     string   `json:"account" doc:"Sign-in name of the account."`
	AccountID   int64    `json:"account_id"`
	Hosted      string   `json:"hosted" enum:"here,elsewhere" doc:"Whether our name servers answer for it."`
	DNSSEC      bool     `json:"dnssec" doc:"Whether it is signed (RFC 4033)."`
	NameServers []string `json:"name_servers" doc:"Names of our name servers, for the registrar, where DNS is hosted here."`
	Own         int64    `json:"own" doc:"How many records people have added."`
	Version     int64    `json:"version" doc:"Counts changes; the ETag."`
}

// ZonePage is a page of zones.
type ZonePage struct {
	Zones []Zone `json:"zones"`
	Next  string `json:"next,omitempty" doc:"Give it as cursor to get the next page; absent on the last one."`
}

// ZoneDetail is a zone with its records.
type ZoneDetail struct {
	Zone
	Records []ZoneRecord `json:"records" doc:"Derived and own ones, in the order in which people read them. Where DNS is hosted elsewhere, those to be entered there."`
	Why     string       `json:"why,omitempty" doc:"Why its DNS cannot be hosted here, if so."`
}

// ZoneRecord is one record of a zone.
type ZoneRecord struct {
	ID        int64  `json:"id,omitempty" doc:"Number of an own record; derived ones have none."`
	Name      string `json:"name" doc:"Relative to the zone; @ is the zone itself."`
	Type      string `json:"type" doc:"Mnemonic, such as MX."`
	TTL       int64  `json:"ttl" doc:"Time to live in seconds."`
	Data      string `json:"data" doc:"In presentation form (RFC 1035, section 5.1); names in it are complete and end with a dot."`
	Own       bool   `json:"own" doc:"Whether a person added it. Otherwise it follows from what is configured."`
	From      string `json:"from,omitempty" doc:"From what a derived record follows."`
	Overruled bool   `json:"overruled,omitempty" doc:"Whether own records replace it."`
}

// NewRecord describes a record to be added.
type NewRecord struct {
	Name string `json:"name" maxLength:"260" doc:"Relative to the zone; empty or @ is the zone itself. A whole name is understood, too."`
	Type string `json:"type" minLength:"1" maxLength:"10" doc:"A, AAAA, CNAME, MX, TXT, SRV, CAA, NS, PTR, TLSA, SSHFP, SVCB or HTTPS."`
	Data string `json:"data" minLength:"1" maxLength:"16384" doc:"What the record says, such as an address. Names of several parts end with a dot, unless they are within the zone; long texts are split."`
	TTL  int64  `json:"ttl,omitempty" minimum:"0" maximum:"604800" doc:"Seconds, from 60 to 604800; 3600 at first."`
}

// RecordChange changes a record; what is absent stays.
type RecordChange struct {
	Name *string `json:"name,omitempty" maxLength:"260"`
	Type *string `json:"type,omitempty" maxLength:"10"`
	Data *string `json:"data,omitempty" maxLength:"16384"`
	TTL  *int64  `json:"ttl,omitempty" minimum:"60" maximum:"604800"`
}

// ZoneChange changes a zone; what is absent stays.
type ZoneChange struct {
	Hosted string `json:"hosted,omitempty" enum:"here,elsewhere" doc:"Whether our name servers are to answer for it."`
	DNSSEC *bool  `json:"dnssec,omitempty" doc:"Whether it is to be signed. It stays signed as long as the parent zone has a DS record for it."`
}

// ZoneReset removes own records that replace derived ones.
type ZoneReset struct {
	Name string `json:"name,omitempty" maxLength:"260" doc:"Only records of this name."`
}

// ZoneImport takes records over from a zone file, or by zone transfer.
type ZoneImport struct {
	Text    string `json:"text,omitempty" maxLength:"1048576" doc:"A zone file (RFC 1035, section 5)."`
	Server  string `json:"server,omitempty" maxLength:"260" doc:"A name server that lets the service transfer the zone (RFC 5936), as a name or an address."`
	Replace bool   `json:"replace,omitempty" doc:"Whether the own records there are now go first."`
}

// ZoneChanged is a zone that was changed, and what came of it.
type ZoneChanged struct {
	Zone        Zone        `json:"zone"`
	Record      *ZoneRecord `json:"record,omitempty" doc:"The record that was added or changed."`
	Corrections []string    `json:"corrections" doc:"What was put right in the input, left out, or is worth knowing, in words."`
	Added       int         `json:"added,omitempty" doc:"How many records an import added."`
	Operation   int64       `json:"operation,omitempty" doc:"Number of the operation that brings it about."`
	Version     int64       `json:"version"`
}

// ZoneCheck tells what public DNS shows of a zone.
type ZoneCheck struct {
	Zone     string        `json:"zone"`
	Verdict  string        `json:"verdict" doc:"What it comes to, in one sentence."`
	Right    bool          `json:"right"`
	Parent   ZoneParent    `json:"parent" doc:"What the parent zone says."`
	Servers  []ZoneServer  `json:"servers" doc:"The authoritative servers to which the parent leads."`
	Sets     []ZoneSet     `json:"sets" doc:"Each set of records that should be there."`
	Problems []ZoneProblem `json:"problems" doc:"What is to be done, the most important first."`
}

// ZoneParent is what the parent zone says about a zone.
type ZoneParent struct {
	Seen   []string `json:"seen" doc:"Names of the name servers to which it delegates."`
	Wanted []string `json:"wanted" doc:"Those to which it should, where DNS is hosted here."`
	DS     []string `json:"ds" doc:"DS records, in presentation form."`
	Failed string   `json:"failed,omitempty" doc:"Why nothing could be asked, if so."`
}

// ZoneServer is one address of an authoritative server.
type ZoneServer struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  uint32 `json:"serial,omitempty"`
	Failed  string `json:"failed,omitempty" doc:"Why it does not answer for the zone, if so."`
}

// ZoneSet is a set of records of one name and type as public DNS has it.
type ZoneSet struct {
	Name   string   `json:"name" doc:"Relative to the zone."`
	Type   string   `json:"type"`
	State  string   `json:"state" enum:"right,missing,different,waiting,unknown" doc:"Right; not there; there with other data; right, but an older answer is still remembered elsewhere; nobody could be asked."`
	Wanted []string `json:"wanted"`
	Seen   []string `json:"seen" doc:"What an authoritative server answers instead."`
	Until  int64    `json:"until,omitempty" doc:"Seconds until the older answer is forgotten."`
}

// ZoneProblem is something that is to be done.
type ZoneProblem struct {
	Problem string `json:"problem"`
	Fix     string `json:"fix" doc:"What to do about it."`
}

// ZoneSigning is how a zone is signed.
type ZoneSigning struct {
	Signed bool      `json:"signed"`
	Keys   []ZoneKey `json:"keys"`
	DS     []string  `json:"ds" doc:"DS records to be given to the registrar (RFC 4034, section 5), in presentation form."`
	CDS    []string  `json:"cds" doc:"CDS records in the zone, from which some registries take the DS automatically (RFC 7344)."`
	Parent []string  `json:"parent" doc:"DS records that the parent has now."`
	State  string    `json:"state" doc:"In words: what is to be done, if anything."`
}

// ZoneKey is a key that signs a zone.
type ZoneKey struct {
	Tag       uint16 `json:"tag"`
	Algorithm uint8  `json:"algorithm" doc:"Number of the algorithm; 13 is ECDSA P-256 with SHA-256."`
	Use       string `json:"use" enum:"key-signing,zone-signing" doc:"The parent's DS record names a key-signing key."`
}

// NameServers are the names under which a reseller's customers know the name servers.
type NameServers struct {
	Names            []string `json:"names" maxItems:"8" doc:"The first is the primary's, and so on; none takes the installation's."`
	AcceptUnresolved bool     `json:"accept_unresolved,omitempty" doc:"True to take names that do not lead to our name servers yet."`
}

// NameServersChanged are name servers that were changed, and what came of it.
type NameServersChanged struct {
	Names     []string `json:"names"`
	Accounts  int      `json:"accounts" doc:"How many accounts have zones that name them."`
	Operation int64    `json:"operation,omitempty"`
}
