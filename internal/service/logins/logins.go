package logins

import (
	"context"
	"errors"
	"slices"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/logins"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// login is everything that the records hold about one login.
type login struct {
	row  db.Login
	keys []db.LoginKey
}

func loadLogins(ctx context.Context, q *db.Queries, account int64) ([]login, error) {
	rows, err := q.LoginsOfAccount(ctx, account)
	if err != nil {
		return nil, err
	}
	keys, err := q.KeysOfAccount(ctx, account)
	var list []login
	for _, row := range rows {
		l := login{row: row}
		for _, k := range keys {
			if k.LoginID == row.ID {
				l.keys = append(l.keys, k)
			}
		}
		list = append(list, l)
	}
	return list, err
}

// Part is the logins of an account and whether its own may have a shell. It comes after the part
// that says whether the account is suspended: then nobody is let in.
func (s *Service) LoginsPart() rollout.Part {
	return rollout.Part{Name: "logins", Closed: func(ctx context.Context, tx store.Tx, accountID int64) error {
		return tx.DeleteLogins(ctx, accountID)
	},
		Fill: func(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *rollout.Manifests) error {
			list, err := loadLogins(ctx, q, st.Account.ID)
			if err != nil {
				return err
			}
			home := m.Home()
			for _, l := range list {
				one := logins.Login{Name: l.row.Name, Folder: l.row.Folder}
				if !home.Suspended {
					one.Hash = l.row.Hash
					for _, k := range l.keys {
						one.Keys = append(one.Keys, k.Line)
					}
				}
				home.Logins = append(home.Logins, one)
			}
			home.Shell = st.Has("shell") && !home.Suspended
			return nil
		}}
}

func loginView(l login, shell bool) api.Login {
	v := api.Login{Name: l.row.Name, Main: l.row.Main, Folder: l.row.Folder, Password: l.row.Hash != "",
		Keys: []api.LoginKey{}, Shell: shell && l.row.Main, Version: l.row.Version}
	for _, k := range l.keys {
		v.Keys = append(v.Keys, api.LoginKey{Fingerprint: k.Fingerprint, Type: strings.SplitN(k.Line, " ", 2)[0],
			Comment: k.Comment, AddedAt: k.AddedAt})
	}
	return v
}

// Logins returns the logins of an account, its own sign-in first.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Logins(ctx context.Context, a usecase.Actor, reference string) (api.LoginList, error) {
	out := api.LoginList{Logins: []api.Login{}}
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
	server, err := s.Store.ServerByID(ctx, account.ServerID)
	if err != nil {
		return out, err
	}
	out.Addresses = usecase.AddressesOf(server)
	shell := st.Has("shell")
	list, err := loadLogins(ctx, s.Store.Queries, number)
	for _, l := range list {
		out.Logins = append(out.Logins, loginView(l, shell))
	}
	return out, err
}

// onLogins changes the logins of an account and starts the operation that brings it about. What fn
// returns is the login's name; empty where it has gone.
func (s *Service) onLogins(ctx context.Context, a usecase.Actor, reference, kind string,
	fn func(store.Tx, entitlement.Entitlement, []login) (string, error)) (api.LoginChanged, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.LoginChanged, error) {
		none := api.LoginChanged{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		st, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
		if err != nil {
			return none, err
		}
		list, err := loadLogins(ctx, tx.Queries, number)
		if err != nil {
			return none, err
		}
		name, err := fn(tx, st, list)
		if err != nil {
			return none, err
		}
		out := api.LoginChanged{}
		if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account),
			[]int64{number}); err != nil {
			return none, err
		}
		if list, err = loadLogins(ctx, tx.Queries, number); err != nil {
			return none, err
		}
		for _, l := range list {
			if l.row.Name == name {
				out.Login, out.Version = loginView(l, st.Has("shell")), l.row.Version
			}
		}
		return out, nil
	})
}

// loginCost is bcrypt's.
const loginCost = 11

func loginHash(password, name string) (string, error) {
	if password == "" {
		return "", nil
	}
	if err := people.CheckNewPassword("password", password, name); err != nil {
		return "", err
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), loginCost)
	if err != nil {
		return "", refusal.Input("password", "a password for file transfer has 72 octets at most")
	}
	return string(hash), nil
}

func parseKeys(typed []string) ([]logins.Key, error) {
	var keys []logins.Key
	for _, text := range typed {
		k, err := logins.ParseKey(text)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(keys, func(o logins.Key) bool { return o.Fingerprint == k.Fingerprint }) {
			return nil, refusal.Input("keys", "the key %s is given twice", k.Fingerprint)
		}
		k.Comment = k.Comment[:min(len(k.Comment), 200)]
		keys = append(keys, k)
	}
	return keys, nil
}

// mostKeys is how many keys a login can have.
const mostKeys = 50

// AddLogin adds a further login to an account.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddLogin(ctx context.Context, a usecase.Actor, reference string, in api.NewLogin) (api.LoginChanged,
	error) {
	keys, err := parseKeys(in.Keys)
	if err != nil {
		return api.LoginChanged{}, err
	}
	return s.onLogins(ctx, a, reference, "login.add",
		func(tx store.Tx, st entitlement.Entitlement, list []login) (string, error) {
			name, err := logins.Name(st.Account.SignInName, in.Name)
			if err != nil {
				return "", err
			}
			folder := strings.Trim(strings.TrimPrefix(in.Folder, usecase.HomeOf(st.Account)), "/")
			if err := logins.CheckFolder(folder); err != nil {
				return "", err
			}
			if slices.ContainsFunc(list, func(l login) bool { return l.row.Name == name }) {
				return "", refusal.New(refusal.NameTaken, "there is a login %s already; choose another name",
					name).On("name")
			}
			if !st.Has("logins") {
				return "", st.MissingFeature("logins", "further logins need the feature logins, which this account "+
					"does not have")
			}
			if err := st.Admit(plans.Logins, 1); err != nil {
				return "", err
			}
			hash, err := loginHash(in.Password, name)
			if err != nil {
				return "", err
			}
			row, err := tx.AddLogin(ctx, db.AddLoginParams{AccountID: st.Account.ID, Name: name, Folder: folder,
				Hash: hash})
			if err != nil {
				return "", err
			}
			for _, k := range keys {
				if err := tx.AddLoginKey(ctx, db.AddLoginKeyParams{LoginID: row.ID, Line: k.Line, Comment: k.Comment,
					Fingerprint: k.Fingerprint}); err != nil {
					return "", err
				}
			}
			a.Summarize("add login %s to account %s, which sees %s", name, st.Account.SignInName, folderName(folder))
			if hash == "" && len(keys) == 0 {
				a.Note("nobody can use it until it has a password or a key")
			}
			return name, usecase.Record(ctx, tx, a, "login.add", usecase.AboutAccount(st.Account), nil,
				map[string]any{"login": name, "folder": folder, "password": hash != "", "keys": len(keys)})
		})
}

func folderName(folder string) string {
	if folder == "" {
		return "the whole home"
	}
	return folder
}

func findLogin(list []login, signIn, typed string) (login, error) {
	name := strings.ToLower(strings.TrimSpace(typed))
	at := slices.IndexFunc(list, func(l login) bool { return l.row.Name == name || l.row.Name == signIn+"-"+name })
	if at < 0 {
		return login{}, usecase.NotFound("login", typed)
	}
	return list[at], nil
}

// ChangeLogin changes folder, password or keys of a login. Version is
// the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NameTaken, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeLogin(ctx context.Context, a usecase.Actor, reference, name string, version int64,
	in api.LoginChange) (api.LoginChanged, error) {
	added, err := parseKeys(in.AddKeys)
	if err != nil {
		return api.LoginChanged{}, err
	}
	return s.onLogins(ctx, a, reference, "login.change",
		func(tx store.Tx, st entitlement.Entitlement, list []login) (string, error) {
			l, err := findLogin(list, st.Account.SignInName, name)
			if err != nil {
				return "", err
			}
			if err := usecase.CheckVersion("login "+l.row.Name, version, l.row.Version); err != nil {
				return "", err
			}
			p := db.ChangeLoginParams{ID: l.row.ID, Folder: l.row.Folder, Hash: l.row.Hash}
			words := map[string]any{"login": l.row.Name}
			if in.Folder != nil {
				if l.row.Main {
					return "", refusal.Input("folder", "the account's own sign-in sees the whole home; add a login "+
						"for a "+
						"folder")
				}
				p.Folder = strings.Trim(strings.TrimPrefix(*in.Folder, usecase.HomeOf(st.Account)), "/")
				if err := logins.CheckFolder(p.Folder); err != nil {
					return "", err
				}
				words["folder"] = p.Folder
			}
			if in.Password != nil {
				if p.Hash, err = loginHash(*in.Password, l.row.Name); err != nil {
					return "", err
				}
				words["password"] = map[bool]string{true: "another", false: "none"}[p.Hash != ""]
			}
			if err := tx.ChangeLogin(ctx, p); err != nil {
				return "", err
			}
			for _, fingerprint := range in.RemoveKeys {
				n, err := tx.RemoveLoginKey(ctx, db.RemoveLoginKeyParams{LoginID: l.row.ID, Fingerprint: fingerprint})
				if err == nil && n == 0 {
					err = usecase.NotFound("key", fingerprint)
				}
				if err != nil {
					return "", err
				}
			}
			if len(l.keys)+len(added)-len(in.RemoveKeys) > mostKeys {
				return "", refusal.New(refusal.LimitReached, "a login can have %d keys at most", mostKeys)
			}
			for _, k := range added {
				if slices.ContainsFunc(l.keys, func(o db.LoginKey) bool {
					return o.Fingerprint == k.Fingerprint && !slices.Contains(in.RemoveKeys, o.Fingerprint)
				}) {
					return "", refusal.New(refusal.NameTaken, "the login has the key %s already",
						k.Fingerprint).On("key")
				}
				if err := tx.AddLoginKey(ctx, db.AddLoginKeyParams{LoginID: l.row.ID, Line: k.Line, Comment: k.Comment,
					Fingerprint: k.Fingerprint}); err != nil {
					return "", err
				}
			}
			if len(added) > 0 {
				words["keys_added"] = fingerprints(added)
			}
			if len(in.RemoveKeys) > 0 {
				words["keys_removed"] = in.RemoveKeys
			}
			if len(words) == 1 {
				return "", refusal.Input("password", "say what is to change: folder, password or keys")
			}
			a.Summarize("change login %s", l.row.Name)
			return l.row.Name, usecase.Record(ctx, tx, a, "login.change", usecase.AboutAccount(st.Account), nil, words)
		})
}

func fingerprints(keys []logins.Key) []string {
	var list []string
	for _, k := range keys {
		list = append(list, k.Fingerprint)
	}
	return list
}

// RemoveLogin takes a further login away. Its files stay.
//
// Refusals: ApplyFailed, InUse, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveLogin(ctx context.Context, a usecase.Actor, reference, name string) (api.Started, error) {
	done, err := s.onLogins(ctx, a, reference, "login.remove",
		func(tx store.Tx, st entitlement.Entitlement, list []login) (string, error) {
			l, err := findLogin(list, st.Account.SignInName, name)
			if err != nil {
				return "", err
			}
			if l.row.Main {
				return "", refusal.New(refusal.InUse, "%s is the account's own sign-in and goes when the account is "+
					"closed; take its password and keys away instead", l.row.Name)
			}
			a.Summarize("remove login %s", l.row.Name)
			a.Note("its files stay in %s", folderName(l.row.Folder))
			return "", errors.Join(tx.RemoveLogin(ctx, l.row.ID),
				usecase.Record(ctx, tx, a, "login.remove", usecase.AboutAccount(st.Account),
					map[string]any{"login": l.row.Name, "folder": l.row.Folder}, nil))
		})
	return api.Started{Operation: done.Operation}, err
}
