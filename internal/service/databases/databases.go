package databases

import (
	"cmp"
	"context"
	"crypto/rand"
	"net"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Databases returns the databases and database users of an account, by name.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Databases(ctx context.Context, a usecase.Actor, reference string) (api.DatabaseList, error) {
	out := api.DatabaseList{Databases: []api.Database{}, Users: []api.DatabaseUser{}, Engines: []api.DatabaseEngine{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return out, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return out, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return out, err
	}
	for _, row := range r.databases {
		one := r.view(a, account, row)
		out.Databases = append(out.Databases, one)
		if one.Size != nil {
			out.Used += *one.Size
		}
	}
	for _, row := range r.users {
		out.Users = append(out.Users, r.userView(row))
	}
	for _, row := range r.engines {
		e := databases.Engine(row.Engine)
		one := api.DatabaseEngine{Engine: row.Engine, Title: e.Title(), Server: row.Server.Label, Port: e.Port(),
			Addresses: usecase.AddressesOf(row.Server)}
		at := placeOf(account, row.Server)
		if one.Host = at.Host; at.Local {
			one.Socket = e.Socket()
		}
		if a.Role == rights.Operator { // it speaks of other servers
			one.Placement = a.SayKept(row.Placement)
		}
		out.Engines = append(out.Engines, one)
	}
	if limit := st.Allowance().Amounts()[plans.DatabaseSize]; !limit.Unlimited {
		out.Limit = &limit.N
	}
	return out, nil
}

// placeOf is where the account's sites reach databases on a server.
func placeOf(account db.Account, server db.Server) databases.Place {
	if server.ID == account.ServerID {
		return databases.Place{Host: "localhost", Local: true}
	}
	if host, _, err := net.SplitHostPort(server.Address); err == nil {
		return databases.Place{Host: host}
	}
	return databases.Place{Host: server.Address}
}

func (r rows) view(a usecase.Actor, account db.Account, row db.Database) api.Database {
	v := api.Database{Name: row.Name, Engine: row.Engine, Charset: row.Charset, Collation: row.CollationName,
		Size: row.Size, Growth: row.Growth, Users: []api.DatabaseAccess{}, Connect: []api.ConnectionLine{},
		AddedAt: row.AddedAt, Version: row.Version}
	for _, u := range r.users {
		if level := r.levelsOf(u.ID)[row.Name]; level != "" {
			v.Users = append(v.Users, api.DatabaseAccess{User: u.Name, Level: string(level)})
		}
	}
	engine, is := r.engine(row.Engine)
	if !is {
		return v
	}
	v.Server = engine.Server.Label
	user := "USER"
	if len(v.Users) > 0 {
		user = v.Users[0].User
	}
	for _, line := range databases.Sheet(wantedOf(row), user, placeOf(account, engine.Server)) {
		v.Connect = append(v.Connect, api.ConnectionLine{Title: line.Title.In(a.Language), Text: line.Text})
	}
	return v
}

// wantedOf is a database as the core knows it.
func wantedOf(row db.Database) databases.Database {
	return databases.Database{Engine: databases.Engine(row.Engine), Name: row.Name, Charset: row.Charset,
		Collation: row.CollationName}
}

func (r rows) userView(row db.DatabaseUser) api.DatabaseUser {
	v := api.DatabaseUser{Name: row.Name, Engine: row.Engine, Password: row.Verifier != nil, Hosts: row.Hosts,
		Levels: []api.DatabaseLevel{}, AddedAt: row.AddedAt, Version: row.Version}
	levels := r.levelsOf(row.ID)
	for _, d := range r.databases {
		if level := levels[d.Name]; level != "" {
			v.Levels = append(v.Levels, api.DatabaseLevel{Database: d.Name, Level: string(level)})
		}
	}
	return v
}

// find returns a database by its name, of which the part behind the sign-in name is enough.
//
// Refusals: NotFound.
func (r rows) find(signIn, typed string) (db.Database, error) {
	name := strings.ToLower(strings.TrimSpace(typed))
	for _, d := range r.databases {
		if d.Name == name || d.Name == signIn+"_"+name {
			return d, nil
		}
	}
	return db.Database{}, usecase.NotFound("database", typed)
}

// findUser is find for users.
//
// Refusals: NotFound.
func (r rows) findUser(signIn, typed string) (db.DatabaseUser, error) {
	name := strings.ToLower(strings.TrimSpace(typed))
	for _, u := range r.users {
		if u.Name == name || u.Name == signIn+"_"+name {
			return u, nil
		}
	}
	return db.DatabaseUser{}, usecase.NotFound("database user", typed)
}

// change changes the databases of an account, which is locked, and starts the operation that brings
// it about. What fn returns tells of the outcome.
func change[T any](ctx context.Context, s *Service, a usecase.Actor, reference, kind string,
	fn func(store.Tx, entitlement.Entitlement, rows) (func(rows, int64) T, error)) (T, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (T, error) {
		var none T
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		st, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
		if err != nil {
			return none, err
		}
		before, err := loadRows(ctx, tx.Queries, number)
		if err != nil {
			return none, err
		}
		tell, err := fn(tx, st, before)
		if err != nil {
			return none, err
		}
		after, err := loadRows(ctx, tx.Queries, number)
		if err != nil {
			return none, err
		}
		operation, err := s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account), []int64{number})
		if err != nil {
			return none, err
		}
		return tell(after, operation), nil
	})
}

func tellDatabase(a usecase.Actor, account db.Account, id int64) func(rows, int64) api.DatabaseChanged {
	return func(r rows, operation int64) api.DatabaseChanged {
		told := api.DatabaseChanged{Operation: operation}
		for _, row := range r.databases {
			if row.ID == id {
				told.Database, told.Version = r.view(a, account, row), row.Version
			}
		}
		return told
	}
}

func tellUser(id int64) func(rows, int64) api.DatabaseUserChanged {
	return func(r rows, operation int64) api.DatabaseUserChanged {
		told := api.DatabaseUserChanged{Operation: operation}
		for _, row := range r.users {
			if row.ID == id {
				told.User, told.Version = r.userView(row), row.Version
			}
		}
		return told
	}
}

// AddDatabase adds a database to an account, and a user for it if one is named. The first of an
// engine decides on which server those of that engine are.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddDatabase(ctx context.Context, a usecase.Actor, reference string,
	in api.NewDatabase) (api.DatabaseChanged, error) {
	engine, err := databases.ParseEngine(in.Engine)
	if err != nil {
		return api.DatabaseChanged{}, err
	}
	charset, collation, err := databases.ParseCharset(engine, in.Charset, in.Collation)
	if err != nil {
		return api.DatabaseChanged{}, err
	}
	return change(ctx, s, a, reference, "database.add",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.DatabaseChanged, error) {
			name, err := databases.Name(st.Account.SignInName, in.Name)
			if err != nil {
				return nil, err
			}
			if err := r.free(name); err != nil {
				return nil, err
			}
			row, err := s.add(ctx, tx, a, st, r, wantedDatabase{engine, name, charset, collation, in.Server})
			if err != nil {
				return nil, err
			}
			a.Summarize("add the %s database %s to account %s", engine.Title(), name, st.Account.SignInName)
			words := map[string]any{"database": name, "engine": engine, "charset": charset, "collation": collation}
			if in.User != "" {
				user, err := s.userFor(ctx, tx, st, r, row, in)
				if err != nil {
					return nil, err
				}
				words["user"] = user
			} else {
				a.Note("nobody can use it until a user may; add one, or give it to one")
			}
			return tellDatabase(a, st.Account, row.ID), usecase.Record(ctx, tx, a, "database.add",
				usecase.AboutAccount(st.Account), nil, words)
		})
}

// wantedDatabase is a database that is to be added; the server is empty where it is to be chosen.
type wantedDatabase struct {
	engine                           databases.Engine
	name, charset, collation, server string
}

// add adds the row of a database whose name is free.
//
// Refusals: LimitReached, NoServer, NotAllowed, NotFound, WrongState.
func (s *Service) add(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement, r rows,
	wanted wantedDatabase) (db.Database, error) {
	if err := admit(st); err != nil {
		return db.Database{}, err
	}
	if err := st.Admit(plans.Databases, 1); err != nil {
		return db.Database{}, err
	}
	if err := s.place(ctx, tx, a, st.Account, r, wanted.engine, wanted.server); err != nil {
		return db.Database{}, err
	}
	return tx.AddDatabase(ctx, db.AddDatabaseParams{AccountID: st.Account.ID, Engine: string(wanted.engine),
		Name: wanted.name, Charset: wanted.charset, CollationName: wanted.collation})
}

// admit refuses databases to an account without the feature.
//
// Refusals: NotAllowed.
func admit(st entitlement.Entitlement) error {
	if !st.Has("databases") {
		return st.MissingFeature("databases", "databases need the feature databases, which this account does not have")
	}
	return nil
}

// free refuses the name of a database that is there.
//
// Refusals: NameTaken.
func (r rows) free(name string) error {
	if slices.ContainsFunc(r.databases, func(d db.Database) bool { return d.Name == name }) {
		return refusal.New(refusal.NameTaken, "there is a database %s already; choose another name", name).On("name")
	}
	return nil
}

// userFor gives a new database to a user that may do everything with it: one that is there, or a
// new one.
//
// Refusals: InvalidInput, NameTaken, WeakPassword, WrongState.
func (s *Service) userFor(ctx context.Context, tx store.Tx, st entitlement.Entitlement, r rows, database db.Database,
	in api.NewDatabase) (string, error) {
	u, err := r.findUser(st.Account.SignInName, in.User)
	switch {
	case err == nil && in.Password != "":
		return "", refusal.New(refusal.NameTaken, "there is a database user %s already; leave out the password to let "+
			"it use the database, or choose another name", u.Name).On("user")
	case err == nil && u.Engine != database.Engine:
		return "", otherEngine(u, database)
	case err != nil:
		if u, err = s.addUser(ctx, tx, st, r, database.Engine, in.User, in.Password, nil); err != nil {
			return "", err
		}
	}
	return u.Name, tx.SetDatabaseLevel(ctx, db.SetDatabaseLevelParams{DatabaseID: database.ID, UserID: u.ID,
		Level: string(databases.All)})
}

// otherEngine refuses a user of one engine to a database of the other.
func otherEngine(u db.DatabaseUser, d db.Database) error {
	return refusal.New(refusal.WrongState, "%s is a user of %s, and %s is a database of %s; add another user", u.Name,
		databases.Engine(u.Engine).Title(), d.Name, databases.Engine(d.Engine).Title()).On("user")
}

// mostUsers is how many users an account can have.
const mostUsers = 300

// addUser adds the row of a user.
//
// Refusals: InvalidInput, LimitReached, NameTaken, WeakPassword.
func (s *Service) addUser(ctx context.Context, tx store.Tx, st entitlement.Entitlement, r rows, engine, typed,
	password string, hosts []string) (db.DatabaseUser, error) {
	name, err := databases.Name(st.Account.SignInName, typed)
	if err != nil {
		return db.DatabaseUser{}, err
	}
	if slices.ContainsFunc(r.users, func(u db.DatabaseUser) bool { return u.Name == name }) {
		return db.DatabaseUser{}, refusal.New(refusal.NameTaken, "there is a database user %s already; choose another "+
			"name", name).On("name")
	}
	if len(r.users) >= mostUsers {
		return db.DatabaseUser{}, refusal.New(refusal.LimitReached, "an account can have %d database users", mostUsers)
	}
	verifier, err := s.verifier(engine, password, name)
	if err != nil {
		return db.DatabaseUser{}, err
	}
	return tx.AddDatabaseUser(ctx, db.AddDatabaseUserParams{AccountID: st.Account.ID, Engine: engine, Name: name,
		Verifier: verifier, Hosts: append([]string{}, hosts...)})
}

// verifier makes what an engine checks a password with, sealed; nil for none.
//
// Refusals: InvalidInput, WeakPassword.
func (s *Service) verifier(engine, password, name string) ([]byte, error) {
	if password == "" {
		return nil, nil
	}
	if err := people.CheckNewPassword("password", password, name); err != nil {
		return nil, err
	}
	// PostgreSQL's programs put other characters into a form of their own first (RFC 4013).
	if strings.ContainsFunc(password, func(c rune) bool { return c < ' ' || c > '~' }) {
		return nil, refusal.Input("password", "a password for databases has letters a to z, digits and signs of ASCII "+
			"only: not every program sends others in the same way")
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return nil, err
	}
	text, err := databases.Verifier(databases.Engine(engine), password, salt)
	if err != nil {
		return nil, err
	}
	return s.Key.Seal(sealedVerifier, []byte(text)), nil
}

// ChangeDatabase changes the character set of a MariaDB database, for tables that are made from
// then on. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeDatabase(ctx context.Context, a usecase.Actor, reference, typed string, version int64,
	in api.DatabaseChange) (api.DatabaseChanged, error) {
	return change(ctx, s, a, reference, "database.change",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.DatabaseChanged, error) {
			d, err := r.find(st.Account.SignInName, typed)
			if err != nil {
				return nil, err
			}
			if err := usecase.CheckVersion("database "+d.Name, version, d.Version); err != nil {
				return nil, err
			}
			if in.Charset == nil && in.Collation == nil {
				return nil, refusal.Input("charset", "say what is to change: charset or collation")
			}
			if d.Engine != string(databases.MariaDB) {
				return nil, refusal.New(refusal.WrongState, "the collation of %s databases is fixed when "+
					"they are made; add another one", databases.Engine(d.Engine).Title()).On("collation")
			}
			charset, collation := d.Charset, ""
			if in.Charset != nil {
				charset = *in.Charset
			}
			if in.Collation != nil {
				collation = *in.Collation
				if in.Charset == nil {
					charset = ""
				}
			}
			charset, collation, err = databases.ParseCharset(databases.Engine(d.Engine), charset, collation)
			if err != nil {
				return nil, err
			}
			a.Summarize("change database %s", d.Name)
			a.Note("it counts for tables that are made from now on; those that are there stay as they are")
			if err := tx.ChangeDatabase(ctx, db.ChangeDatabaseParams{ID: d.ID, Charset: charset,
				CollationName: collation}); err != nil {
				return nil, err
			}
			return tellDatabase(a, st.Account, d.ID), usecase.Record(ctx, tx, a, "database.change",
				usecase.AboutAccount(st.Account),
				map[string]any{"database": d.Name, "charset": d.Charset, "collation": d.CollationName},
				map[string]any{"database": d.Name, "charset": charset, "collation": collation})
		})
}

// RemoveDatabase removes a database with everything in it.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveDatabase(ctx context.Context, a usecase.Actor, reference, typed string) (api.Started, error) {
	return change(ctx, s, a, reference, "database.remove",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.Started, error) {
			d, err := r.find(st.Account.SignInName, typed)
			if err != nil {
				return nil, err
			}
			a.Summarize("remove database %s with everything in it", d.Name)
			for _, u := range r.users {
				if levels := r.levelsOf(u.ID); len(levels) == 1 && levels[d.Name] != "" {
					a.Note("the database user %s stays, and can use no database then", u.Name)
				}
			}
			if err := tx.RemoveDatabase(ctx, d.ID); err != nil {
				return nil, err
			}
			return started, usecase.Record(ctx, tx, a, "database.remove", usecase.AboutAccount(st.Account),
				map[string]any{"database": d.Name, "engine": d.Engine}, nil)
		})
}

func started(_ rows, operation int64) api.Started { return api.Started{Operation: operation} }

// AddDatabaseUser adds a database user to an account.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddDatabaseUser(ctx context.Context, a usecase.Actor, reference string,
	in api.NewDatabaseUser) (api.DatabaseUserChanged, error) {
	hosts, err := hostsTyped(in.Hosts)
	if err != nil {
		return api.DatabaseUserChanged{}, err
	}
	return change(ctx, s, a, reference, "database_user.add",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.DatabaseUserChanged, error) {
			if err := admit(st); err != nil {
				return nil, err
			}
			engine := in.Engine
			for _, l := range in.Levels {
				d, err := r.find(st.Account.SignInName, l.Database)
				if err != nil {
					return nil, err
				}
				engine = cmp.Or(engine, d.Engine)
			}
			parsed, err := databases.ParseEngine(engine)
			if err != nil {
				return nil, err
			}
			if err := s.place(ctx, tx, a, st.Account, r, parsed, ""); err != nil {
				return nil, err
			}
			u, err := s.addUser(ctx, tx, st, r, string(parsed), in.Name, in.Password, hosts)
			if err != nil {
				return nil, err
			}
			words := map[string]any{"database_user": u.Name, "engine": parsed, "password": u.Verifier != nil}
			if err := setLevels(ctx, tx, st, r, u, in.Levels, nil, words); err != nil {
				return nil, err
			}
			a.Summarize("add database user %s to account %s", u.Name, st.Account.SignInName)
			if u.Verifier == nil {
				a.Note("nobody can sign in until it has a password")
			}
			if len(hosts) > 0 {
				words["hosts"] = hosts
			}
			return tellUser(u.ID), usecase.Record(ctx, tx, a, "database_user.add", usecase.AboutAccount(st.Account),
				nil, words)
		})
}

// hostsTyped checks networks and puts them into their final form.
//
// Refusals: InvalidInput.
func hostsTyped(typed []string) ([]string, error) {
	list, err := databases.ParseHosts(typed)
	if err != nil {
		return nil, err
	}
	hosts := []string{}
	for _, one := range list {
		text := one.String()
		if one.IsSingleIP() {
			text = one.Addr().String()
		}
		hosts = append(hosts, text)
	}
	return hosts, nil
}

// setLevels sets what a user may do, and adds it to the words of the record.
//
// Refusals: InvalidInput, NotFound, WrongState.
func setLevels(ctx context.Context, tx store.Tx, st entitlement.Entitlement, r rows, u db.DatabaseUser,
	set []api.DatabaseLevel, remove []string, words map[string]any) error {
	levels := map[string]any{}
	for _, l := range set {
		d, err := r.find(st.Account.SignInName, l.Database)
		if err != nil {
			return err
		}
		if d.Engine != u.Engine {
			return otherEngine(u, d)
		}
		level, err := databases.ParseLevel(l.Level)
		if err != nil {
			return err
		}
		if err := tx.SetDatabaseLevel(ctx, db.SetDatabaseLevelParams{DatabaseID: d.ID, UserID: u.ID,
			Level: string(level)}); err != nil {
			return err
		}
		levels[d.Name] = level
	}
	for _, name := range remove {
		d, err := r.find(st.Account.SignInName, name)
		if err != nil {
			return err
		}
		if err := tx.RemoveDatabaseLevel(ctx, db.RemoveDatabaseLevelParams{DatabaseID: d.ID,
			UserID: u.ID}); err != nil {
			return err
		}
		levels[d.Name] = "none"
	}
	if len(levels) > 0 {
		words["levels"] = levels
	}
	return nil
}

// ChangeDatabaseUser changes password, networks or rights of a database user. Version is the one
// the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotFound, ServerUnreachable, Suspended,
// WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeDatabaseUser(ctx context.Context, a usecase.Actor, reference, typed string, version int64,
	in api.DatabaseUserChange) (api.DatabaseUserChanged, error) {
	return change(ctx, s, a, reference, "database_user.change",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.DatabaseUserChanged, error) {
			u, err := r.findUser(st.Account.SignInName, typed)
			if err != nil {
				return nil, err
			}
			if err := usecase.CheckVersion("database user "+u.Name, version, u.Version); err != nil {
				return nil, err
			}
			p := db.ChangeDatabaseUserParams{ID: u.ID, Verifier: u.Verifier, Hosts: u.Hosts}
			words := map[string]any{"database_user": u.Name}
			if in.Hosts != nil {
				if p.Hosts, err = hostsTyped(*in.Hosts); err != nil {
					return nil, err
				}
				words["hosts"] = p.Hosts
			}
			if in.Password != nil {
				if p.Verifier, err = s.verifier(u.Engine, *in.Password, u.Name); err != nil {
					return nil, err
				}
				words["password"] = map[bool]string{true: "another", false: "none"}[p.Verifier != nil]
			}
			if err := setLevels(ctx, tx, st, r, u, in.Levels, in.Remove, words); err != nil {
				return nil, err
			}
			if len(words) == 1 {
				return nil, refusal.Input("password", "say what is to change: password, hosts or databases")
			}
			if err := tx.ChangeDatabaseUser(ctx, p); err != nil {
				return nil, err
			}
			a.Summarize("change database user %s", u.Name)
			return tellUser(u.ID), usecase.Record(ctx, tx, a, "database_user.change", usecase.AboutAccount(st.Account),
				nil, words)
		})
}

// RemoveDatabaseUser removes a database user; what it has made stays.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveDatabaseUser(ctx context.Context, a usecase.Actor, reference, typed string) (api.Started,
	error) {
	return change(ctx, s, a, reference, "database_user.remove",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(rows, int64) api.Started, error) {
			u, err := r.findUser(st.Account.SignInName, typed)
			if err != nil {
				return nil, err
			}
			a.Summarize("remove database user %s", u.Name)
			if err := tx.RemoveDatabaseUser(ctx, u.ID); err != nil {
				return nil, err
			}
			return started, usecase.Record(ctx, tx, a, "database_user.remove", usecase.AboutAccount(st.Account),
				map[string]any{"database_user": u.Name, "engine": u.Engine}, nil)
		})
}
