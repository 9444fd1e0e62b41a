package databases

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// sealedVerifier names what passwords are checked with where it is sealed.
const sealedVerifier = "verifier of a database user"

// Part is the databases of an account, on the servers that they were placed on with the first in
// each engine. It comes after the part that says whether the account is suspended: then nobody
// connects, but for what is left of a limit.
func (s *Service) Part() rollout.Part {
	return rollout.Part{Name: "databases", Fill: s.fill, Describe: describe, Swept: s.saveSizes,
		Prepare: func(ctx context.Context, server db.Server, m manifest.Manifest) error {
			if m.Databases == nil {
				return nil
			}
			return s.rollout.SyncServer(ctx, server) // it must know that it keeps databases
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error {
			return errors.Join(tx.DeleteDatabases(ctx, accountID), tx.DeleteDatabaseUsers(ctx, accountID),
				tx.DeleteEngines(ctx, accountID), tx.DeleteDatabaseNotice(ctx, accountID))
		}}
}

// describe says what a server with the role database is to know.
func describe(_ context.Context, _ *db.Queries, server db.Server, out *manifest.Server) error {
	if slices.Contains(server.Roles, "database") {
		out.Databases = &manifest.DatabaseServer{}
	}
	return nil
}

// saveSizes writes down what a server has measured, and tells customers whose databases are nearly
// full.
func (s *Service) saveSizes(ctx context.Context, tx store.Tx, server db.Server, sweep agentlink.Sweep) error {
	p := db.SaveDatabaseSizesParams{Server: server.ID}
	var limited []agentlink.AccountState
	for _, a := range sweep.Accounts {
		if len(a.Databases) > 0 && a.DatabaseLimit != nil {
			limited = append(limited, a)
		}
		for _, d := range a.Databases {
			p.Names, p.Sizes = append(p.Names, d.Name), append(p.Sizes, d.Size)
			p.Growths = append(p.Growths, string(d.Growth))
		}
	}
	if len(p.Names) == 0 {
		return nil
	}
	if err := tx.SaveDatabaseSizes(ctx, p); err != nil {
		return err
	}
	for _, a := range limited {
		if err := s.tellOfFull(ctx, tx, a.AccountID, *a.DatabaseLimit); err != nil {
			return err
		}
	}
	return nil
}

// tellOfFull tells the customer of an account how full its databases are, once for each step.
func (s *Service) tellOfFull(ctx context.Context, tx store.Tx, number, limit int64) error {
	row, err := tx.DatabasesUsed(ctx, number)
	if err != nil {
		return err
	}
	now, tell := databases.NextNotice(int(row.Told), row.Used, &limit)
	switch {
	case now == int(row.Told):
		return nil
	case now == 0:
		return tx.DeleteDatabaseNotice(ctx, number)
	}
	if err := tx.SaveDatabaseNotice(ctx, db.SaveDatabaseNoticeParams{AccountID: number,
		Percent: int32(now)}); err != nil || !tell {
		return err
	}
	account, err := tx.Account(ctx, number)
	if err != nil {
		return err
	}
	return s.notify.Customer(ctx, tx, account, "databases full",
		func(language string, from notices.Sender) notices.Notice {
			return notices.DatabasesFull(language, from, usecase.Unicode(account.MainDomain), now,
				plans.FormatSize(row.Used), plans.FormatSize(limit))
		})
}

// rows are all that the records hold of an account's databases.
type rows struct {
	engines   []db.EnginesOfAccountRow
	databases []db.Database
	users     []db.DatabaseUser
	levels    []db.DatabaseLevel
}

func loadRows(ctx context.Context, q *db.Queries, account int64) (rows, error) {
	var r rows
	var errs [4]error
	r.engines, errs[0] = q.EnginesOfAccount(ctx, account)
	r.databases, errs[1] = q.DatabasesOfAccount(ctx, account)
	r.users, errs[2] = q.DatabaseUsersOfAccount(ctx, account)
	r.levels, errs[3] = q.DatabaseLevelsOfAccount(ctx, account)
	return r, errors.Join(errs[:]...)
}

// engine is where the databases of an engine are.
func (r rows) engine(e string) (db.EnginesOfAccountRow, bool) {
	at := slices.IndexFunc(r.engines, func(row db.EnginesOfAccountRow) bool { return row.Engine == e })
	if at < 0 {
		return db.EnginesOfAccountRow{}, false
	}
	return r.engines[at], true
}

// levelsOf are what a user may do, by the name of the database.
func (r rows) levelsOf(user int64) map[string]databases.Level {
	out := map[string]databases.Level{}
	for _, l := range r.levels {
		if l.UserID != user {
			continue
		}
		for _, d := range r.databases {
			if d.ID == l.DatabaseID {
				out[d.Name] = databases.Level(l.Level)
			}
		}
	}
	return out
}

func (s *Service) fill(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *rollout.Manifests) error {
	r, err := loadRows(ctx, q, st.Account.ID)
	if err != nil || len(r.databases)+len(r.users) == 0 {
		return err
	}
	sites, err := siteNetworks(ctx, q, st.Account)
	if err != nil {
		return err
	}
	limit := st.ServerLimits().DatabaseSize
	suspended := m.Home().Suspended
	on := func(engine string) (*manifest.Databases, int64, error) {
		row, is := r.engine(engine)
		if !is {
			return nil, 0, errors.New("databases of " + engine + " are on no server")
		}
		wanted := m.On(row.Server.ID)
		if wanted.Databases == nil {
			wanted.Databases = &manifest.Databases{Suspended: suspended}
			if !limit.Unlimited {
				wanted.Databases.SizeLimit = &limit.N
			}
		}
		return wanted.Databases, row.Server.ID, nil
	}
	for _, d := range r.databases {
		there, _, err := on(d.Engine)
		if err != nil {
			return err
		}
		there.Databases = append(there.Databases, wantedOf(d))
	}
	for _, row := range r.users {
		there, server, err := on(row.Engine)
		if err != nil {
			return err
		}
		u := manifest.DatabaseUser{User: databases.User{Engine: databases.Engine(row.Engine), Name: row.Name,
			Levels: r.levelsOf(row.ID)}}
		if u.Hosts, err = databases.ParseHosts(row.Hosts); err != nil {
			return err
		}
		if server != st.Account.ServerID { // the sites come from there
			for _, network := range sites {
				if !slices.Contains(u.Hosts, network) {
					u.Hosts = append(u.Hosts, network)
				}
			}
		}
		if row.Verifier != nil {
			text, err := s.Key.Open(sealedVerifier, row.Verifier)
			if err != nil {
				return err
			}
			u.Verifier = manifest.Secret(text)
		}
		there.Users = append(there.Users, u)
	}
	return nil
}

// siteNetworks are the addresses of the server with the account's sites: the one that its agent is
// reached at, as engines beside it are within the same network, and the public ones.
func siteNetworks(ctx context.Context, q *db.Queries, account db.Account) ([]netip.Prefix, error) {
	server, err := q.ServerByID(ctx, account.ServerID)
	if err != nil {
		return nil, err
	}
	texts := usecase.AddressesOf(server)
	if agent, err := netip.ParseAddrPort(server.Address); err == nil { // a name has none
		texts = append(texts, agent.Addr().Unmap().String())
	}
	var list []netip.Prefix
	for _, text := range texts {
		if address, err := netip.ParseAddr(text); err == nil {
			one := netip.PrefixFrom(address, address.BitLen())
			if !slices.Contains(list, one) {
				list = append(list, one)
			}
		}
	}
	return list, nil
}

// place returns the server with the account's databases of an engine, and decides on one with the
// first.
//
// Refusals: NoServer, NotAllowed, NotFound, WrongState.
func (s *Service) place(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account, r rows,
	engine databases.Engine, named string) error {
	if named != "" && a.Role != rights.Operator {
		return refusal.New(refusal.NotAllowed, "the server is for operators to choose").On("server")
	}
	if row, is := r.engine(string(engine)); is {
		if named != "" && named != row.Server.Label {
			return refusal.New(refusal.WrongState, "the %s databases of this account are on %s already, and stay "+
				"there; leave out the server", engine.Title(), row.Server.Label).On("server")
		}
		return nil
	}
	list, err := tx.DatabaseServers(ctx, string(engine))
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return refusal.New(refusal.NoServer, "no server keeps databases of %s yet", engine.Title()).
			Help(refusal.Remedy{By: refusal.Operator, Do: language.New("add one with the role database")})
	}
	var others []int64
	for _, row := range r.engines {
		others = append(others, row.Server.ID)
	}
	best, why := choose(list, account.ServerID, others, named)
	if best == nil {
		return refusal.New(refusal.NotFound, "no server %q keeps databases of %s", named, engine.Title()).On("server")
	}
	if best.ID != account.ServerID {
		a.Note("the %s databases of %s are on %s: %s", engine.Title(), account.SignInName, best.Label, why)
	}
	return tx.PlaceEngine(ctx, db.PlaceEngineParams{AccountID: account.ID, Engine: string(engine), ServerID: best.ID,
		Placement: why.Encode()})
}

// choose chooses among servers for an account with its home on one of them and databases of another
// engine on others, and says why. A name that none has leads to nil.
func choose(list []db.DatabaseServersRow, home int64, others []int64, named string) (*db.Server, language.Text) {
	if named != "" {
		for _, one := range list {
			if one.Server.Label == named {
				return &one.Server, language.New("named by the person who added the first database")
			}
		}
		return nil, language.Text{}
	}
	if len(list) == 1 && list[0].Server.ID != home {
		return &list[0].Server, language.New("no other server keeps databases of this engine")
	}
	best := list[0]
	for _, one := range list {
		if one.Server.ID == home {
			return &one.Server, language.New("the account’s sites are there, too")
		}
		if one.Accounts < best.Accounts {
			best = one
		}
	}
	for _, one := range list {
		if slices.Contains(others, one.Server.ID) {
			return &one.Server, language.New("the account’s other databases are there, too")
		}
	}
	return &best.Server, language.New("it has databases of the fewest accounts")
}
