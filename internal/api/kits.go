package api

import (
	"time"

	"victualler/internal/hosting/kits"
)

// Kit is starter content that sites can begin with, in all of its versions.
type Kit struct {
	Name     string       `json:"name"`
	Title    string       `json:"title"`
	About    string       `json:"about"`
	Versions []KitVersion `json:"versions" doc:"The newest first."`
	Current  string       `json:"current,omitempty" doc:"The version that sites get: the newest that is not withdrawn."`
	Plans    []string     `json:"plans" doc:"Plans whose accounts are offered it, as far as one may see them."`
}

// KitVersion is one version of a kit.
type KitVersion struct {
	Version   string     `json:"version"`
	Needs     KitNeeds   `json:"needs"`
	Files     int        `json:"files"`
	Size      int64      `json:"size" doc:"Of the files, in bytes."`
	Asks      []kits.Ask `json:"asks" doc:"What is to be answered."`
	Digest    string     `json:"digest" doc:"Identifies document and files, however they were packed."`
	Signer    string     `json:"signer,omitempty" doc:"The key that the archive was signed with; absent if it was not."`
	Withdrawn bool       `json:"withdrawn" doc:"No site gets it any more."`
	Sites     int64      `json:"sites" doc:"How many sites have it, as far as one may see them."`
	AddedAt   time.Time  `json:"added_at"`
}

// KitNeeds is what a kit cannot do without.
type KitNeeds struct {
	PHP        string   `json:"php,omitempty" doc:"The least version."`
	Extensions []string `json:"extensions,omitempty" doc:"Of PHP."`
	Database   string   `json:"database,omitempty" enum:"mariadb,postgresql" doc:"It gets one of its own, with a user."`
	Space      int64    `json:"space,omitempty" doc:"About how many bytes it takes."`
}

// KitList is the list of kits.
type KitList struct {
	Kits []Kit `json:"kits"`
}

// KitChange changes what is offered of a kit.
type KitChange struct {
	Plans     *[]string `json:"plans,omitempty" doc:"The plans whose accounts are offered it: all that one may change."`
	Withdraw  []string  `json:"withdraw,omitempty" doc:"Versions that no site gets any more."`
	Reinstate []string  `json:"reinstate,omitempty" doc:"Versions that sites get again."`
}

// OfferedKit is a kit as an account is offered it.
type OfferedKit struct {
	Name    string     `json:"name"`
	Version string     `json:"version"`
	Title   string     `json:"title"`
	About   string     `json:"about"`
	Needs   KitNeeds   `json:"needs"`
	Asks    []kits.Ask `json:"asks" doc:"What is to be answered."`
	Size    int64      `json:"size" doc:"Of the files, in bytes."`
	Missing []string   `json:"missing" doc:"Why the account cannot have it now; empty if it can."`
}

// AccountKits is what an account is offered, and what its sites have.
type AccountKits struct {
	Kits  []OfferedKit `json:"kits"`
	Sites []SiteKit    `json:"sites"`
}

// SiteKit is the kit of a site.
type SiteKit struct {
	Domain       string            `json:"domain"`
	Kit          string            `json:"kit"`
	Version      string            `json:"version"`
	Title        string            `json:"title"`
	State        string            `json:"state" enum:"installing,installed,updating,removing,undoing"`
	Operation    int64             `json:"operation,omitempty" doc:"Of the work that is under way."`
	Answers      map[string]string `json:"answers"`
	Asks         []kits.Ask        `json:"asks"`
	Database     string            `json:"database,omitempty"`
	DatabaseUser string            `json:"database_user,omitempty"`
	Newer        string            `json:"newer,omitempty" doc:"A newer version that the account is offered."`
	InstalledAt  *time.Time        `json:"installed_at,omitempty"`
}

// NewSiteKit has a site begin with a kit.
type NewSiteKit struct {
	Kit     string            `json:"kit" minLength:"1" maxLength:"40"`
	Version string            `json:"version,omitempty" maxLength:"40" doc:"The newest where absent."`
	Answers map[string]string `json:"answers,omitempty"`
	Replace bool              `json:"replace,omitempty" doc:"True to delete the files that are in the site now."`
}

// SiteKitUpdate brings a site to another version of its kit, or gives it other settings.
type SiteKitUpdate struct {
	Version     string            `json:"version,omitempty" maxLength:"40" doc:"The newest where absent."`
	Answers     map[string]string `json:"answers,omitempty" doc:"Those that are to be others; templates are filled in anew."`
	NewPassword bool              `json:"new_password,omitempty" doc:"True for another password of the database user, in the site's files too."`
	Take        []string          `json:"take,omitempty" maxItems:"1000" doc:"Files changed here in whose place the kit's are to come."`
	KeepOthers  bool              `json:"keep_others,omitempty" doc:"True to leave all other files as they were changed here."`
}

// KitFileChange is what an update does to one file.
type KitFileChange struct {
	Path   string `json:"path"`
	Action string `json:"action" enum:"add,replace,remove,keep,conflict"`
}

// SiteKitPlan is what an update would do.
type SiteKitPlan struct {
	From  string          `json:"from"`
	To    string          `json:"to"`
	Files []KitFileChange `json:"files" doc:"Keep: changed here and not in the kit, it stays. Conflict: changed in both."`
}
