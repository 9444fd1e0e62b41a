package domains

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/manifest"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// SiteRows is everything that the records hold about the sites of one account.
type SiteRows struct {
	terms     entitlement.Entitlement
	account   db.Account
	Domains   []db.Domain
	own       map[int64]sites.Settings // by domain
	folders   map[int64][]folder       // by domain
	templates map[int64]template
	bounds    sites.Bounds
	// server is the label of the account's server, php the versions that are installed there,
	// newest first; none where it is not known.
	server string
	php    []string
}

type folder struct {
	row   db.Folder
	users []sites.FolderUser
}

type template struct {
	ref      string
	settings sites.Settings
}

// LoadSites reads the sites of an account.
func LoadSites(ctx context.Context, q *db.Queries, st entitlement.Entitlement) (SiteRows, error) {
	account := st.Account
	rows := SiteRows{terms: st, account: account, bounds: st.ServerLimits().Bounds, own: map[int64]sites.Settings{},
		folders: map[int64][]folder{}, templates: map[int64]template{}}
	server, err := q.ServerByID(ctx, account.ServerID)
	if err != nil {
		return rows, err
	}
	rows.server, rows.php = server.Label, phpVersions(server)
	if rows.Domains, err = q.DomainsOfAccount(ctx, account.ID); err != nil {
		return rows, err
	}
	for _, d := range rows.Domains {
		if err := rows.loadSettings(ctx, q, d); err != nil {
			return rows, err
		}
	}
	return rows, rows.loadFolders(ctx, q)
}

// loadSettings reads the settings of a site, and those of its template.
func (rows *SiteRows) loadSettings(ctx context.Context, q *db.Queries, d db.Domain) (err error) {
	if rows.own[d.ID], err = readSettings(d.Settings); err != nil {
		return fmt.Errorf("settings of %s: %w", d.Name, err)
	}
	if _, known := rows.templates[usecase.OrZero(d.TemplateID)]; d.TemplateID == nil || known {
		return nil
	}
	row, err := q.TemplateByID(ctx, *d.TemplateID)
	if err != nil {
		return err
	}
	settings, err := readSettings(row.Settings)
	if err != nil {
		return fmt.Errorf("template %s: %w", row.Name, err)
	}
	rows.templates[row.ID] = template{entitlement.PlanRef(row.Reseller, row.Name), settings}
	return nil
}

// loadFolders reads the protected folders of all sites.
func (rows *SiteRows) loadFolders(ctx context.Context, q *db.Queries) error {
	clear(rows.folders)
	folders, err := q.FoldersOfAccount(ctx, rows.account.ID)
	if err != nil || len(folders) == 0 {
		return err
	}
	users, err := q.FolderUsersOfAccount(ctx, rows.account.ID)
	for _, row := range folders {
		f := folder{row: row}
		for _, u := range users {
			if u.FolderID == row.ID {
				f.users = append(f.users, sites.FolderUser{Name: u.Name, Hash: u.Hash})
			}
		}
		rows.folders[row.DomainID] = append(rows.folders[row.DomainID], f)
	}
	return err
}

// put has the rows hold a domain as it is now.
func (rows *SiteRows) put(ctx context.Context, q *db.Queries, d db.Domain) error {
	if at := slices.IndexFunc(rows.Domains, func(other db.Domain) bool { return other.ID == d.ID }); at >= 0 {
		rows.Domains[at] = d
	} else {
		rows.Domains = append(rows.Domains, d)
	}
	return rows.loadSettings(ctx, q, d)
}

// phpVersions are the versions of PHP on a server, as its agent said last.
func phpVersions(server db.Server) []string {
	status := usecase.LastStatus(server)
	if status == nil {
		return nil
	}
	if status.Sandboxes == nil {
		return nil
	}
	return status.Sandboxes.PHP
}

// LoadDomain finds a domain of an account that the actor may see, with
// all sites of the account and their server.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) LoadDomain(ctx context.Context, a usecase.Actor, reference, name string) (rows SiteRows, d db.Domain,
	server db.Server, err error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return rows, d, server, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return rows, d, server, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return rows, d, server, err
	}
	if rows, err = LoadSites(ctx, s.Store.Queries, st); err != nil {
		return rows, d, server, err
	}
	if d, err = rows.find(name); err != nil {
		return rows, d, server, err
	}
	server, err = s.Store.ServerByID(ctx, account.ServerID)
	return rows, d, server, err
}

func readSettings(column []byte) (sites.Settings, error) {
	set := sites.Settings{}
	if len(column) == 0 {
		return set, nil
	}
	return set, json.Unmarshal(column, &set)
}

// find returns the domain of that name.
func (r SiteRows) find(name string) (db.Domain, error) {
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return db.Domain{}, err
	}
	at := slices.IndexFunc(r.Domains, func(d db.Domain) bool { return d.Name == domain.String() })
	if at < 0 {
		return db.Domain{}, usecase.NotFound("domain", name)
	}
	return r.Domains[at], nil
}

func (r SiteRows) byID(number int64) db.Domain {
	at := slices.IndexFunc(r.Domains, func(d db.Domain) bool { return d.ID == number })
	if at < 0 {
		return db.Domain{}
	}
	return r.Domains[at]
}

func (r SiteRows) templateOf(d db.Domain) template { return r.templates[usecase.OrZero(d.TemplateID)] }

// shown returns the site whose content a domain shows: itself, or what
// it mirrors. Others serve nothing.
func (r SiteRows) shown(d db.Domain) (db.Domain, bool) {
	if d.MirrorOf != nil {
		return r.byID(*d.MirrorOf), true
	}
	return d, d.ServedAs == string(sites.Site)
}

// ownSource is the source of what is set for a site itself.
const ownSource = "site"

// effective resolves the settings of a site.
func (r SiteRows) effective(d db.Domain) []sites.Effective {
	layers := []sites.Layer{{Source: ownSource, Settings: r.own[d.ID]}}
	if d.TemplateID != nil {
		t := r.templateOf(d)
		layers = append(layers, sites.Layer{Source: "template " + t.ref, Settings: t.settings})
	}
	list := sites.Resolve(r.bounds, layers...)
	for i, e := range list {
		// A version that a template wants and this server does not have: the newest does instead.
		if wanted, is := e.Value.(string); is && e.Key == "php_version" && wanted != "" &&
			!slices.Contains(r.php, wanted) {
			list[i].Value, list[i].Bounded = "", language.New("%s is not installed on %s", wanted, r.server)
		}
	}
	return list
}

// Sites of the manifest: one for each domain that a web server answers for.
// SitesPart is the sites of an account, how they are served and what they are set to.
func (s *Service) SitesPart() rollout.Part {
	return rollout.Part{Name: "sites", Fill: s.fillSites,
		Applied: func(ctx context.Context, tx store.Tx, account db.Account, latest bool) error {
			if !latest {
				return nil
			}
			return tx.ClearMovedRoots(ctx, account.ID)
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error {
			return tx.DeleteDomains(ctx, accountID)
		},
	}
}

func (s *Service) fillSites(ctx context.Context, q *db.Queries, st entitlement.Entitlement,
	m *rollout.Manifests) error {
	rows, err := LoadSites(ctx, q, st)
	if err != nil {
		return err
	}
	home := m.Home()
	for _, d := range rows.Domains {
		if !dns.ServedByWeb(d) {
			continue
		}
		domain, _, err := names.ParseDomain(d.Name)
		if err != nil {
			return err
		}
		site := manifest.Site{Domain: domain}
		if d.ServedAs == string(sites.Redirect) {
			r := redirection(d)
			site.Redirect = &r
			home.Sites = append(home.Sites, site)
			continue
		}
		shown, _ := rows.shown(d)
		site.Root = shown.Root
		if d.MirrorOf != nil {
			site.MirrorOf = shown.Name
		} else {
			site.Starter, site.MovedFrom = d.MovedFrom == "", d.MovedFrom
		}
		if site.Switches, err = sites.SwitchesOf(rows.effective(shown)); err != nil {
			return err
		}
		for _, f := range rows.folders[shown.ID] {
			site.Folders = append(site.Folders, sites.Folder{Path: f.row.Path, Title: f.row.Title, Users: f.users})
		}
		home.Sites = append(home.Sites, site)
	}
	return nil
}

// changeSite decides about the parts of a change that only a site has:
// its directory, template and settings.
func (s *Service) changeSite(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement,
	was db.Domain, d *db.Domain, in api.DomainChange, rows SiteRows) error {
	site := d.ServedAs == string(sites.Site)
	if !site && (len(in.Settings) > 0 || in.Template != nil || in.MoveFiles) {
		what := language.New("settings belong to a site")
		if d.ServedAs == string(sites.Mirror) {
			what = language.New("a mirror has the settings of the site it shows; change them there")
		}
		return refusal.Input("settings", "%s is served as %s: %s", usecase.Unicode(d.Name), usecase.Word(d.ServedAs),
			what)
	}
	if d.Root != was.Root && site {
		if err := changeRoot(a, was, d, in.MoveFiles); err != nil {
			return err
		}
	} else if in.MoveFiles {
		return refusal.Input("move_files", "files are moved only with a new document root")
	}
	if in.Template != nil {
		number, err := s.templateFor(ctx, tx, a, st.Account.ResellerID, *in.Template)
		if err != nil {
			return err
		}
		d.TemplateID = number
	}
	if len(in.Settings) == 0 {
		return nil
	}
	set, unset, err := givenSettings(in.Settings)
	if err != nil {
		return err
	}
	own, err := readSettings(was.Settings)
	if err != nil {
		return err
	}
	if key, err := rows.bounds.Admit(set); err != nil {
		return refusal.Input("settings."+string(key), "%s", err)
	}
	if version, given := set["php_version"].(string); given && version != "" && !slices.Contains(rows.php, version) {
		return refusal.Input("settings.php_version", "PHP %s is not installed on %s; there are %s", version,
			rows.server, strings.Join(rows.php, ", "))
	}
	if raw, given := set["raw"].(string); given && raw != "" {
		if a.Role != rights.Operator && !st.Has("raw_directives") {
			return st.MissingFeature("raw_directives",
				"raw directives need the feature raw_directives, which this account does not have").On("settings.raw")
		}
	}
	for key, value := range set {
		own[key] = value
	}
	for _, key := range unset {
		delete(own, key)
	}
	before := strictFor(rows.effective(was))
	rows.own[d.ID] = own
	if now := strictFor(rows.effective(*d)); now >= sites.LongHSTS && before < sites.LongHSTS && !in.HSTSAccepted {
		return refusal.New(refusal.NeedsDecision, "every browser that has seen %s will refuse it without valid TLS "+
			"for %s, and nothing can take that back; begin with less than a day, or confirm it (hsts-accepted)",
			usecase.Unicode(d.Name), sites.FormatSeconds(now)).
			Choose(refusal.Decision("hsts_accepted", "true", "browsers insist on TLS for %s", sites.FormatSeconds(now)))
	}
	d.Settings, err = json.Marshal(own)
	return err
}

func strictFor(list []sites.Effective) int64 {
	at := slices.IndexFunc(list, func(e sites.Effective) bool { return e.Key == "hsts" })
	return list[at].Value.(int64)
}

func changeRoot(a usecase.Actor, was db.Domain, d *db.Domain, move bool) error {
	if !move {
		d.MovedFrom = ""
		a.Note("the site shows %s from now on; what is in %s stays there", d.Root, was.Root)
		return nil
	}
	for _, pair := range [][2]string{{was.Root, d.Root}, {d.Root, was.Root}} {
		if strings.HasPrefix(pair[1]+"/", pair[0]+"/") {
			return refusal.Input("move_files",
				"%s cannot be moved into or out of itself; move the files by hand, or leave them", was.Root)
		}
	}
	d.MovedFrom = was.Root
	a.Note("the files of %s are moved to %s", was.Root, d.Root)
	return nil
}

// givenSettings reads settings out of a request.
func givenSettings(given map[string]any) (sites.Settings, []sites.Key, error) {
	raw := map[string]json.RawMessage{}
	for key, value := range given {
		text, err := json.Marshal(value)
		if err != nil {
			return nil, nil, err
		}
		raw[key] = text
	}
	return sites.Read(raw)
}

// settingWords writes settings as events hold them: for people.
func settingWords(set sites.Settings) map[string]string {
	words := map[string]string{}
	for key, value := range set {
		info, _ := sites.Of(key)
		words[string(key)] = info.Format(value)
	}
	return words
}

// SiteSettings describes every setting of sites to the actor.
func SiteSettings(a usecase.Actor) api.SettingList {
	list := api.SettingList{}
	for _, i := range sites.All {
		list.Settings = append(list.Settings, api.SettingInfo{Key: string(i.Key), Kind: string(i.Kind),
			Title: a.SayPlain(i.Title),
			About: a.SayPlain(i.About), Group: a.SayPlain(i.Group), Default: i.Default, Choices: i.Choices,
			Least: i.Least, Most: i.Most})
	}
	return list
}

// SiteLog returns the last lines of a site's access log, or those after a place that an earlier
// page gave; then it waits for some up to a while.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) SiteLog(ctx context.Context, a usecase.Actor, reference, name string, lines int, after string,
	wait time.Duration) (api.LogPage, error) {
	none := api.LogPage{Lines: []string{}}
	rows, d, server, err := s.LoadDomain(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	if !dns.ServedByWeb(d) {
		return none, refusal.New(refusal.WrongState, "%s is served by no web server: it has no access log",
			usecase.Unicode(d.Name))
	}
	ask, cancel := context.WithTimeout(ctx, wait+usecase.AgentTimeout)
	defer cancel()
	page, err := s.Agents.Agent(server.ID, server.Address).SiteLog(ask, agentlink.LogRequest{AccountID: rows.account.ID,
		SignInName: rows.account.SignInName, Domain: d.Name, Lines: lines, After: after, Wait: wait})
	if err != nil {
		return none, usecase.Unreachable(server.Label, err)
	}
	return api.LogPage(page), nil
}

func folderView(f folder) api.Folder {
	v := api.Folder{ID: f.row.ID, Path: f.row.Path, Title: f.row.Title, Users: []string{}}
	for _, u := range f.users {
		v.Users = append(v.Users, u.Name)
	}
	return v
}

// folderCost is bcrypt's: nginx works it out anew for every request of a visitor.
const folderCost = 6

func folderHash(password string) (string, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), folderCost)
	if err != nil {
		return "", refusal.Input("password", "a password for a folder has 8 to 72 octets")
	}
	return string(hash), nil
}

// ProtectFolder protects a folder of a site; one that is protected
// already gets the title and the people given.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) ProtectFolder(ctx context.Context, a usecase.Actor, reference, name string,
	in api.NewFolder) (api.FolderChanged, error) {
	in.Path = strings.Trim(in.Path, "/")
	if in.Title == "" {
		in.Title = "Protected"
	}
	return s.changeFolders(ctx, a, reference, name, "folder.add",
		func(tx store.Tx, d db.Domain, list []folder) (int64, map[string]any, error) {
			at := slices.IndexFunc(list, func(f folder) bool { return f.row.Path == in.Path })
			if at < 0 && len(list) >= sites.MostFolders {
				return 0, nil, refusal.New(refusal.LimitReached, "a site can have %d protected folders at most: "+
					"protect "+
					"one above several of them", sites.MostFolders).On("path")
			}
			wanted := sites.Folder{Path: in.Path, Title: in.Title}
			for _, u := range in.Users {
				hash, err := folderHash(u.Password)
				if err != nil {
					return 0, nil, err
				}
				wanted.Users = append(wanted.Users, sites.FolderUser{Name: u.Name, Hash: hash})
			}
			if at >= 0 {
				wanted.Users = append(wanted.Users, list[at].users...)
			}
			if err := checkFolderUsers(wanted.Users); err != nil {
				return 0, nil, err
			}
			if err := wanted.Check(); err != nil {
				return 0, nil, err
			}
			row, err := tx.SaveFolder(ctx, db.SaveFolderParams{DomainID: d.ID, Path: in.Path, Title: in.Title})
			if err != nil {
				return 0, nil, err
			}
			for _, u := range wanted.Users[:len(in.Users)] {
				if err := tx.SaveFolderUser(ctx, db.SaveFolderUserParams{FolderID: row.ID, Name: u.Name,
					Hash: u.Hash}); err != nil {
					return 0, nil, err
				}
			}
			a.Summarize("protect %s of %s", folderWords(in.Path), usecase.Unicode(d.Name))
			if len(wanted.Users) == 0 {
				a.Note("nobody can see it until somebody is let in")
			}
			return row.ID, map[string]any{"folder": in.Path, "title": in.Title}, nil
		})
}

// checkFolderUsers bounds how many may see a folder; one who is listed twice counts once.
func checkFolderUsers(list []sites.FolderUser) error {
	names := map[string]bool{}
	for _, u := range list {
		names[u.Name] = true
	}
	if len(names) > sites.MostFolderUsers {
		return refusal.New(refusal.LimitReached, "%d can be let into a folder at most",
			sites.MostFolderUsers).On("users")
	}
	return nil
}

func folderWords(path string) string {
	if path == "" {
		return "everything"
	}
	return "/" + path + "/"
}

// UnprotectFolder ends the protection of a folder.
//
// Refusals: ApplyFailed, InvalidInput, NoServer, NotAllowed, NotFound, ServerUnreachable,
// Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) UnprotectFolder(ctx context.Context, a usecase.Actor, reference, name string,
	number int64) (api.Started, error) {
	done, err := s.changeFolders(ctx, a, reference, name, "folder.remove",
		func(tx store.Tx, d db.Domain, list []folder) (int64, map[string]any, error) {
			f, err := findFolder(list, number)
			if err != nil {
				return 0, nil, err
			}
			_, err = tx.RemoveFolder(ctx, db.RemoveFolderParams{DomainID: d.ID, Path: f.row.Path})
			a.Summarize("let everybody see %s of %s", folderWords(f.row.Path), usecase.Unicode(d.Name))
			return 0, map[string]any{"folder": f.row.Path}, err
		})
	return api.Started{Operation: done.Operation}, err
}

// AddFolderUser lets somebody into a protected folder, or gives them another password.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) AddFolderUser(ctx context.Context, a usecase.Actor, reference, name string, number int64, user,
	password string) (api.FolderChanged, error) {
	return s.changeFolders(ctx, a, reference, name, "folder.change",
		func(tx store.Tx, d db.Domain, list []folder) (int64, map[string]any, error) {
			f, err := findFolder(list, number)
			if err != nil {
				return 0, nil, err
			}
			if err := sites.CheckFolderUser(user); err != nil {
				return 0, nil, err
			}
			if err := checkFolderUsers(append(slices.Clone(f.users), sites.FolderUser{Name: user})); err != nil {
				return 0, nil, err
			}
			hash, err := folderHash(password)
			if err != nil {
				return 0, nil, err
			}
			a.Summarize("let %s see %s of %s", user, folderWords(f.row.Path), usecase.Unicode(d.Name))
			return number, map[string]any{"folder": f.row.Path, "let_in": user},
				tx.SaveFolderUser(ctx, db.SaveFolderUserParams{FolderID: number, Name: user, Hash: hash})
		})
}

// RemoveFolderUser takes from somebody the right to see a protected folder.
//
// Refusals: ApplyFailed, InvalidInput, NoServer, NotAllowed, NotFound, ServerUnreachable,
// Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) RemoveFolderUser(ctx context.Context, a usecase.Actor, reference, name string, number int64,
	user string) (api.Started, error) {
	done, err := s.changeFolders(ctx, a, reference, name, "folder.change",
		func(tx store.Tx, d db.Domain, list []folder) (int64, map[string]any, error) {
			f, err := findFolder(list, number)
			if err != nil {
				return 0, nil, err
			}
			gone, err := tx.RemoveFolderUser(ctx, db.RemoveFolderUserParams{FolderID: number, Name: user})
			if err == nil && gone == 0 {
				err = usecase.NotFound("visitor", user)
			}
			a.Summarize("shut %s out of %s of %s", user, folderWords(f.row.Path), usecase.Unicode(d.Name))
			return number, map[string]any{"folder": f.row.Path, "shut_out": user}, err
		})
	return api.Started{Operation: done.Operation}, err
}

func findFolder(list []folder, number int64) (folder, error) {
	at := slices.IndexFunc(list, func(f folder) bool { return f.row.ID == number })
	if at < 0 {
		return folder{}, usecase.NotFound("protected folder", fmt.Sprint(number))
	}
	return list[at], nil
}

// changeFolders changes protected folders of a site. What fn returns is
// the folder's number, and what the event is to hold.
func (s *Service) changeFolders(ctx context.Context, a usecase.Actor, reference, name, kind string,
	fn func(store.Tx, db.Domain, []folder) (int64, map[string]any, error)) (api.FolderChanged, error) {
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return api.FolderChanged{}, err
	}
	var out api.FolderChanged
	done, err := s.changeDomains(ctx, a, reference, kind, domain,
		func(tx store.Tx, st entitlement.Entitlement, rows SiteRows) (db.Domain, []language.Text, error) {
			d, err := rows.find(domain.String())
			if err == nil && d.ServedAs != string(sites.Site) {
				err = refusal.New(refusal.WrongState,
					"%s is served as %s; folders are protected at the site that holds them", domain.Unicode(),
					usecase.Word(d.ServedAs))
			}
			if err != nil {
				return d, nil, err
			}
			number, words, err := fn(tx, d, rows.folders[d.ID])
			if err != nil {
				return d, nil, err
			}
			words["domain"] = d.Name
			if err := usecase.Record(ctx, tx, a, kind, usecase.AboutAccount(st.Account), nil, words); err != nil ||
				number == 0 {
				return d, nil, err
			}
			if err := rows.loadFolders(ctx, tx.Queries); err != nil {
				return d, nil, err
			}
			f, err := findFolder(rows.folders[d.ID], number)
			out.Folder = folderView(f)
			return d, nil, err
		})
	out.Operation = done.Operation
	return out, err
}

// templateFor finds the template that a site or plan of a reseller, or
// of the operator, is to follow; empty is none.
func (s *Service) templateFor(ctx context.Context, tx store.Tx, a usecase.Actor, owner *int64,
	reference string) (*int64, error) {
	if reference == "" {
		return nil, nil
	}
	if a.Role == rights.Customer {
		return nil, refusal.New(refusal.NotAllowed, "templates are chosen by whoever hosts the site").On("template")
	}
	row, err := findTemplate(ctx, tx.Queries, a, reference)
	if err != nil {
		return nil, err
	}
	if row.ResellerID != nil && usecase.OrZero(row.ResellerID) != usecase.OrZero(owner) {
		return nil, refusal.Input("template", "template %s is %s's; it is for their accounts only", reference,
			row.Reseller)
	}
	if _, err := usecase.LockTemplateForShare(ctx, tx, row.ID); err != nil {
		return nil, usecase.NotFound("template", reference)
	}
	return &row.ID, nil
}

// SetSettings sets settings of a site whose account is locked, and returns what they were: null for
// those that were not its own. Settings that are null are taken from it. Whoever calls it has the
// servers told.
//
// Refusals: InvalidInput.
func SetSettings(ctx context.Context, tx store.Tx, st entitlement.Entitlement, domain int64,
	given map[string]json.RawMessage) (before map[string]json.RawMessage, err error) {
	rows, err := LoadSites(ctx, tx.Queries, st)
	if err != nil {
		return nil, err
	}
	d := rows.byID(domain)
	set, unset, err := sites.Read(given)
	if err != nil {
		return nil, err
	}
	if key, err := rows.bounds.Admit(set); err != nil {
		return nil, refusal.Input("settings."+string(key), "%s", err)
	}
	own, before := rows.own[domain], map[string]json.RawMessage{}
	for key := range given {
		before[key] = json.RawMessage("null")
		if value, is := own[sites.Key(key)]; is {
			if before[key], err = json.Marshal(value); err != nil {
				return nil, err
			}
		}
	}
	maps.Copy(own, set)
	for _, key := range unset {
		delete(own, key)
	}
	if d.Settings, err = json.Marshal(own); err != nil {
		return nil, err
	}
	_, err = tx.ChangeDomain(ctx, db.ChangeDomainParams{ID: d.ID, ServedAs: d.ServedAs, CountsAs: d.CountsAs,
		Root: d.Root, MovedFrom: d.MovedFrom, Target: d.Target, Code: d.Code, KeepPath: d.KeepPath,
		KeepQuery: d.KeepQuery, MirrorOf: d.MirrorOf, Settings: d.Settings, TemplateID: d.TemplateID})
	return before, err
}
