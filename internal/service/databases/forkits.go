package databases

import (
	"context"
	"fmt"
	"slices"

	"victualler/internal/hosting/databases"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddWithUser adds a database to an account whose rows are locked, and a user of its own that may
// do everything with it. Both get a name that is free, which begins with what is asked for. Whoever
// calls it has the servers told.
//
// Refusals: InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound, WeakPassword,
// WrongState.
func (s *Service) AddWithUser(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement,
	engine databases.Engine, typed, password string) (db.Database, db.DatabaseUser, error) {
	var none db.Database
	r, err := loadRows(ctx, tx.Queries, st.Account.ID)
	if err != nil {
		return none, db.DatabaseUser{}, err
	}
	name, err := r.freeName(st.Account.SignInName, typed)
	if err != nil {
		return none, db.DatabaseUser{}, err
	}
	charset, collation, err := databases.ParseCharset(engine, "", "")
	if err != nil {
		return none, db.DatabaseUser{}, err
	}
	row, err := s.add(ctx, tx, a, st, r, wantedDatabase{engine, name, charset, collation, ""})
	if err != nil {
		return none, db.DatabaseUser{}, err
	}
	user, err := s.addUser(ctx, tx, st, r, string(engine), name, password, nil)
	if err != nil {
		return none, user, err
	}
	return row, user, tx.SetDatabaseLevel(ctx, db.SetDatabaseLevelParams{DatabaseID: row.ID, UserID: user.ID,
		Level: string(databases.All)})
}

// freeName is a name that neither a database nor a user has: what is asked for, or that with a
// number behind it.
func (r rows) freeName(signIn, typed string) (string, error) {
	for n := 1; ; n++ {
		one := typed
		if n > 1 {
			one = fmt.Sprintf("%s_%d", typed, n)
		}
		name, err := databases.Name(signIn, one)
		if err != nil {
			return "", err
		}
		if !slices.ContainsFunc(r.databases, func(d db.Database) bool { return d.Name == name }) &&
			!slices.ContainsFunc(r.users, func(u db.DatabaseUser) bool { return u.Name == name }) {
			return name, nil
		}
	}
}

// SetPassword gives a database user another password. Whoever calls it has the servers told.
//
// Refusals: InvalidInput, WeakPassword.
func (s *Service) SetPassword(ctx context.Context, tx store.Tx, user db.DatabaseUser, password string) error {
	verifier, err := s.verifier(user.Engine, password, user.Name)
	if err != nil {
		return err
	}
	return tx.ChangeDatabaseUser(ctx, db.ChangeDatabaseUserParams{ID: user.ID, Verifier: verifier, Hosts: user.Hosts})
}

// Place is where an account's sites reach its databases of an engine.
func Place(ctx context.Context, q *db.Queries, account db.Account, engine databases.Engine) (databases.Place, error) {
	r, err := loadRows(ctx, q, account.ID)
	if err != nil {
		return databases.Place{}, err
	}
	row, is := r.engine(string(engine))
	if !is {
		return databases.Place{}, fmt.Errorf("databases of %s are on no server", engine)
	}
	return placeOf(account, row.Server), nil
}
