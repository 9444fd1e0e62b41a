package certs

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"net/url"
	"regexp"
	"strings"

	"victualler/internal/acme"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

const (
	sealedAccountKey  = "key of an account at an authority"
	sealedExternalKey = "key of an external account at an authority"
)

var authorityName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// authorityAt returns a client for an authority that is on record.
func (s *Service) authorityAt(row db.Authority) (*acme.Client, error) {
	key, err := s.accountKey(row)
	if err != nil {
		return nil, err
	}
	return acme.New(acme.Authority{Directory: row.Directory, Root: row.Root, Key: key, URL: row.Url})
}

// registerAgain gives the account's key a new account at an authority that no longer knows the old
// one: one side has been restored from a backup. It is recorded, and operators are told.
func (s *Service) registerAgain(ctx context.Context, client authorityClient, row db.Authority) error {
	external := &acme.External{ID: row.ExternalID}
	if row.ExternalKey != nil {
		text, err := s.Key.Open(sealedExternalKey, row.ExternalKey)
		if err != nil {
			return err
		}
		external.Key = string(text)
	}
	account, err := client.Register(ctx, row.Email, external)
	if err != nil {
		return err
	}
	s.Log.Warn("authority no longer knew our account; its key is registered again", "authority", row.Name,
		"account", account)
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		moved, err := tx.MoveAuthorityAccount(ctx, db.MoveAuthorityAccountParams{ID: row.ID, Url: account,
			Before: row.Url})
		if err != nil || moved == 0 {
			return err
		}
		if err := usecase.Record(ctx, tx, usecase.System(), "authority.register",
			usecase.About("authority %s", row.Name),
			map[string]string{"account": row.Url}, map[string]string{"account": account}); err != nil {
			return err
		}
		return s.notify.Operators(ctx, tx, "authority", func(language string, from notices.Sender) notices.Notice {
			return notices.AccountRegistered(language, from, row.Name)
		})
	})
}

func (s *Service) accountKey(row db.Authority) (*ecdsa.PrivateKey, error) {
	der, err := s.Key.Open(sealedAccountKey, row.Key)
	if err != nil {
		return nil, err
	}
	return x509.ParseECPrivateKey(der)
}

func (s *Service) sealAccountKey(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	return s.Key.Seal(sealedAccountKey, der), nil
}

func authorityView(row db.Authority, issued int64) api.Authority {
	var bounds []certificates.Bound
	_ = json.Unmarshal(row.Bounds, &bounds) // written by boundsOf
	return api.Authority{Name: row.Name, Directory: row.Directory, Email: row.Email, OwnRoot: row.Root != "",
		ExternalID: row.ExternalID, Profile: row.Profile, Account: row.Url,
		Terms: row.Terms, Identities: usecase.NonNil(row.Identities), Usual: row.Usual, LimitedUntil: row.LimitedUntil,
		Bounds: usecase.NonNil(bounds), Certificates: issued, Version: row.Version}
}

// Authorities lists the authorities, the usual one first.
func (s *Service) Authorities(ctx context.Context) (api.AuthorityList, error) {
	out := api.AuthorityList{Authorities: []api.Authority{}}
	rows, err := s.Store.Authorities(ctx)
	for _, r := range rows {
		out.Authorities = append(out.Authorities,
			authorityView(db.Authority{ID: r.ID, Name: r.Name, Directory: r.Directory, Email: r.Email, Root: r.Root,
				ExternalID: r.ExternalID, Profile: r.Profile,
				Url: r.Url, Terms: r.Terms, Identities: r.Identities, Usual: r.Usual, LimitedUntil: r.LimitedUntil,
				Bounds: r.Bounds, Version: r.Version}, r.Certificates))
	}
	return out, err
}

// CheckAuthority asks an authority what it says of itself, before anything is agreed to.
//
// Refusals: InvalidInput.
func (s *Service) CheckAuthority(ctx context.Context, in api.AuthorityQuestion) (api.AuthorityAnswer, error) {
	none := api.AuthorityAnswer{}
	if err := checkDirectory(in.Directory); err != nil {
		return none, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return none, err
	}
	client, err := acme.New(acme.Authority{Directory: in.Directory, Root: in.Root, Key: key})
	if err != nil {
		return none, refusal.Input("root", "%v", err)
	}
	defer client.Close()
	d, err := client.Discover(ctx)
	if err != nil {
		return none, refusal.Input("directory", "%s cannot be asked: %s", in.Directory, acme.Reason(err).Detail)
	}
	return api.AuthorityAnswer{Terms: d.Terms, Identities: usecase.NonNil(d.Identities), NeedsExternal: d.NeedsExternal,
		Profiles: usecase.NonNil(d.Profiles), Renewal: d.Renewal}, nil
}

func checkDirectory(directory string) error {
	u, err := url.Parse(directory)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return refusal.Input("directory", "%q is no address of an authority's directory: it begins with https://",
			directory)
	}
	return nil
}

// AddAuthority registers an account with an authority and keeps both.
// Its terms must have been agreed to.
//
// Refusals: InvalidInput, NameTaken, NeedsDecision.
func (s *Service) AddAuthority(ctx context.Context, a usecase.Actor, in api.NewAuthority) (api.Authority, error) {
	if answer, repeated, err := usecase.StoredAnswer[api.Authority](ctx, s.Base, s.Store.Queries, a); err != nil ||
		repeated {
		return answer, err
	}
	none := api.Authority{}
	if !authorityName.MatchString(in.Name) {
		return none, refusal.Input("name", "%q is no name for an authority: up to 31 small letters, digits and "+
			"hyphens, a letter first", in.Name)
	}
	if _, err := s.Store.FindAuthority(ctx, in.Name); err == nil {
		return none, refusal.New(refusal.NameTaken, "there is an authority %s already", in.Name).On("name")
	}
	says, err := s.CheckAuthority(ctx, api.AuthorityQuestion{Directory: in.Directory, Root: in.Root})
	if err != nil {
		return none, err
	}
	if says.Terms != "" && !in.AcceptTerms {
		return none, refusal.New(refusal.NeedsDecision, "%s has terms: read them at %s, and say that you agree "+
			"(accept_terms; client: --accept-terms)", in.Name, says.Terms).
			Choose(refusal.Decision("accept_terms", "true", "you agree to the terms at %s", says.Terms))
	}
	if says.NeedsExternal && in.ExternalID == "" {
		return none, refusal.Input("external_id", "this authority needs an external account: give the number and the "+
			"key that you have from it")
	}
	if err := knownProfile(says.Profiles, in.Profile); err != nil {
		return none, err
	}
	bounds, err := boundsOf(&in.Bounds)
	if err != nil {
		return none, err
	}
	a.Summarize("add authority %s", in.Name)
	if a.Preview != nil {
		return none, usecase.Do(ctx, s.Base, a, func(store.Tx) error { return nil })
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return none, err
	}
	client, err := acme.New(acme.Authority{Directory: in.Directory, Root: in.Root, Key: key})
	if err != nil {
		return none, err
	}
	defer client.Close()
	account, err := client.Register(ctx, in.Email, &acme.External{ID: in.ExternalID, Key: in.ExternalKey})
	if err != nil {
		return none, refusal.New(refusal.InvalidInput, "%s gives no account: %s", in.Name, acme.Reason(err).Detail)
	}
	sealed, err := s.sealAccountKey(key)
	if err != nil {
		return none, err
	}
	p := db.AddAuthorityParams{Name: in.Name, Directory: in.Directory, Email: in.Email, Root: in.Root,
		ExternalID: in.ExternalID, Profile: in.Profile, Key: sealed, Url: account,
		Terms: says.Terms, Identities: usecase.NonNil(says.Identities), Usual: in.Usual, Bounds: bounds}
	if in.ExternalKey != "" {
		p.ExternalKey = s.Key.Seal(sealedExternalKey, []byte(in.ExternalKey))
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Authority, error) {
		list, err := tx.Authorities(ctx)
		if err != nil {
			return none, err
		}
		p.Usual = p.Usual || len(list) == 0
		if p.Usual {
			if err := tx.ClearDefaultAuthority(ctx); err != nil {
				return none, err
			}
		}
		row, err := tx.AddAuthority(ctx, p)
		if err != nil {
			return none, err
		}
		if p.Usual { // sites that have waited for one
			if err := tx.ScheduleAllCertificates(ctx); err != nil {
				return none, err
			}
		}
		return authorityView(row, 0),
			usecase.Record(ctx, tx, a, "authority.add", usecase.About("authority %s", row.Name), nil,
				authorityRecord(row))
	})
}

func knownProfile(offered []string, wanted string) error {
	if wanted == "" {
		return nil
	}
	for _, p := range offered {
		if p == wanted {
			return nil
		}
	}
	if len(offered) == 0 {
		return refusal.Input("profile", "this authority offers no profiles: leave it out")
	}
	return refusal.Input("profile", "%q is no profile of this authority: it offers %s", wanted,
		strings.Join(offered, ", "))
}

func authorityRecord(row db.Authority) map[string]any {
	return map[string]any{"directory": row.Directory, "email": row.Email, "profile": row.Profile, "usual": row.Usual,
		"account": row.Url, "bounds": json.RawMessage(row.Bounds)}
}

// ChangeAuthority makes an authority the usual one, has another profile ordered, has it write
// elsewhere, or gives its account another key. Version is the one the caller has seen, or 0.
//
// Refusals: Changed, InvalidInput, NotFound, WrongState.
func (s *Service) ChangeAuthority(ctx context.Context, a usecase.Actor, name string, version int64,
	in api.AuthorityChange) (api.Authority, error) {
	if answer, repeated, err := usecase.StoredAnswer[api.Authority](ctx, s.Base, s.Store.Queries, a); err != nil ||
		repeated {
		return answer, err
	}
	none := api.Authority{}
	row, err := s.findAuthority(ctx, name)
	if err != nil {
		return none, err
	}
	if err := usecase.CheckVersion("the authority "+name, version, row.Version); err != nil {
		// before the authority hears of it
		return none, err
	}
	if in.Root != nil {
		row.Root = *in.Root
	}
	if in.Profile != nil || in.Root != nil {
		says, err := s.CheckAuthority(ctx, api.AuthorityQuestion{Directory: row.Directory, Root: row.Root})
		if err != nil {
			return none, err
		}
		if in.Profile != nil {
			row.Profile = *in.Profile
		}
		if err := knownProfile(says.Profiles, row.Profile); err != nil {
			return none, err
		}
	}
	bounds, err := boundsOf(in.Bounds)
	if err != nil {
		return none, err
	}
	if in.Email != nil && *in.Email != row.Email && a.Preview == nil {
		if err := s.changeContact(ctx, row, *in.Email); err != nil {
			return none, err
		}
	}
	if in.NewKey && a.Preview == nil {
		if err := s.changeAccountKey(ctx, row); err != nil {
			return none, err
		}
		version = 0 // it has just become another
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Authority, error) {
		before, err := tx.FindAuthority(ctx, name)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("the authority "+name, version, before.Version); err != nil {
			return none, err
		}
		p := db.ChangeAuthorityParams{ID: before.ID, Email: before.Email, Root: before.Root, Profile: before.Profile,
			Bounds: before.Bounds, Terms: before.Terms, Identities: before.Identities, Usual: before.Usual}
		if in.Profile != nil {
			p.Profile = *in.Profile
		}
		if in.Root != nil {
			p.Root = *in.Root
		}
		if in.Email != nil {
			p.Email = *in.Email
		}
		if bounds != nil {
			p.Bounds = bounds
		}
		if in.Usual && !before.Usual {
			p.Usual = true
			if err := tx.ClearDefaultAuthority(ctx); err != nil {
				return none, err
			}
		}
		a.Summarize("change authority %s", name)
		after, err := tx.ChangeAuthority(ctx, p)
		if err != nil {
			return none, err
		}
		words := authorityRecord(after)
		words["new_key"] = in.NewKey
		return authorityView(after, 0),
			usecase.Record(ctx, tx, a, "authority.change", usecase.About("authority %s", name), authorityRecord(before),
				words)
	})
}

// changeContact has an authority write to another address.
func (s *Service) changeContact(ctx context.Context, row db.Authority, email string) error {
	client, err := s.authorityAt(row)
	if err != nil {
		return err
	}
	defer client.Close()
	if err := client.ChangeContact(ctx, email); err != nil {
		return refusal.Input("email", "%s does not take %q: %s", row.Name, email, acme.Reason(err).Detail)
	}
	return nil
}

// boundsOf checks bounds, and writes them down; nil for none that were given.
func boundsOf(list *[]certificates.Bound) ([]byte, error) {
	if list == nil {
		return nil, nil
	}
	for _, b := range *list {
		if err := b.Check(); err != nil {
			return nil, err
		}
	}
	return json.Marshal(usecase.NonNil(*list))
}

// changeAccountKey gives the account at an authority another key. The key is written down before
// the authority hears of it: cut off anywhere, it is found out later which of the two counts.
func (s *Service) changeAccountKey(ctx context.Context, row db.Authority) error {
	if row.NextKey != nil {
		if err := s.settleAccountKey(ctx, row); err != nil {
			return refusal.New(refusal.WrongState,
				"the last change of the key at %s was cut off, and it cannot be asked now which one counts: %s",
				row.Name, acme.Reason(err).Detail)
		}
		var err error
		if row, err = s.Store.AuthorityByID(ctx, row.ID); err != nil {
			return err
		}
	}
	client, err := s.authorityAt(row)
	if err != nil {
		return err
	}
	defer client.Close()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	sealed, err := s.sealAccountKey(key)
	if err != nil {
		return err
	}
	begun, err := s.Store.BeginAccountKey(ctx, db.BeginAccountKeyParams{ID: row.ID, NextKey: sealed})
	if err != nil {
		return err
	}
	if begun == 0 {
		return refusal.New(refusal.WrongState, "somebody else is changing the key at %s just now", row.Name)
	}
	if err = client.ChangeKey(ctx, key); err == nil {
		return s.Store.SettleAccountKey(ctx, db.SettleAccountKeyParams{ID: row.ID, Taken: true})
	}
	why := acme.Reason(err)
	if !why.Passing {
		return errors.Join(s.Store.SettleAccountKey(ctx, db.SettleAccountKeyParams{ID: row.ID}),
			refusal.New(refusal.WrongState, "%s does not take another key: %s", row.Name, why.Detail))
	}
	return refusal.New(refusal.WrongState,
		"%s did not answer (%s): whether it has taken the key is found out in a few minutes", row.Name, why.Detail)
}

// settleAccountKey finds out whether an authority has taken the key that it was being given.
func (s *Service) settleAccountKey(ctx context.Context, row db.Authority) error {
	next := row
	next.Key, next.Url = row.NextKey, ""
	client, err := s.authorityAt(next)
	if err != nil {
		return err
	}
	defer client.Close()
	account, err := client.Mine(ctx)
	if err != nil {
		return err
	}
	return s.Store.SettleAccountKey(ctx, db.SettleAccountKeyParams{ID: row.ID, Taken: account == row.Url})
}

// settleAccountKeys takes up changes of keys that were cut off.
func (s *Service) settleAccountKeys(ctx context.Context) {
	rows, err := s.Store.AccountKeysUnsettled(ctx)
	if err != nil {
		return // the next round comes
	}
	for _, row := range rows {
		if err := s.settleAccountKey(ctx, row); err != nil && ctx.Err() == nil {
			s.Log.Warn("not known which key counts", "authority", row.Name, "reason", err)
		}
	}
}

// RemoveAuthority forgets an authority of which there is nothing.
//
// Refusals: InUse, NotFound.
func (s *Service) RemoveAuthority(ctx context.Context, a usecase.Actor, name string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		row, err := tx.FindAuthority(ctx, name)
		if store.None(err) {
			return usecase.NotFound("authority", name)
		}
		if err != nil {
			return err
		}
		used, err := tx.AuthorityUsed(ctx, row.ID)
		if err != nil {
			return err
		}
		if used {
			return refusal.New(refusal.InUse, "%s has issued certificates or been given orders, and stays on record; "+
				"make another authority the usual one instead", name)
		}
		a.Summarize("remove authority %s", name)
		if err := tx.RemoveAuthority(ctx, row.ID); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "authority.remove", usecase.About("authority %s", name), authorityRecord(row),
			nil)
	})
}

func (s *Service) findAuthority(ctx context.Context, name string) (db.Authority, error) {
	row, err := s.Store.FindAuthority(ctx, name)
	if store.None(err) {
		return row, usecase.NotFound("authority", name)
	}
	return row, err
}
