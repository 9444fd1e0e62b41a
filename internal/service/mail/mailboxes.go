package mail

import (
	"context"
	"slices"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Mailboxes returns the mailboxes of an account, by address.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Mailboxes(ctx context.Context, a usecase.Actor, reference string) (api.MailboxList, error) {
	out := api.MailboxList{Mailboxes: []api.Mailbox{}}
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
	rows, err := s.Store.MailboxesOfAccount(ctx, number)
	if err != nil {
		return out, err
	}
	for _, row := range rows {
		out.Mailboxes = append(out.Mailboxes, view(st, row))
	}
	out.Server, err = serverName(ctx, s.Store.Queries, account)
	return out, err
}

// serverName is the name of the server that an account's mail is on; empty while it has none.
func serverName(ctx context.Context, q *db.Queries, account db.Account) (string, error) {
	if account.MailServerID == nil {
		return "", nil
	}
	server, err := q.ServerByID(ctx, *account.MailServerID)
	return server.HostName, err
}

func view(st entitlement.Entitlement, row db.MailboxesOfAccountRow) api.Mailbox {
	address := row.Mailbox.Local + "@" + row.Domain
	return api.Mailbox{Address: address, Unicode: row.Mailbox.Local + "@" + usecase.Unicode(row.Domain),
		Password: row.Mailbox.Hash != nil, Size: row.Mailbox.Size, Most: sizeInForce(st, row.Mailbox.Size),
		Domain: row.Domain, AddedAt: row.Mailbox.AddedAt, Version: row.Mailbox.Version}
}

// change changes the mailboxes of an account, which is locked, and starts the operation that brings
// it about. What fn returns is the number of the mailbox; 0 where it has gone.
func (s *Service) change(ctx context.Context, a usecase.Actor, reference, kind string,
	fn func(store.Tx, entitlement.Entitlement, []db.MailboxesOfAccountRow) (int64, error)) (api.MailboxChanged, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.MailboxChanged, error) {
		none := api.MailboxChanged{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		st, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
		if err != nil {
			return none, err
		}
		rows, err := tx.MailboxesOfAccount(ctx, number)
		if err != nil {
			return none, err
		}
		id, err := fn(tx, st, rows)
		if err != nil {
			return none, err
		}
		out := api.MailboxChanged{}
		if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account),
			[]int64{number}); err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		if out.Server, err = serverName(ctx, tx.Queries, account); err != nil {
			return none, err
		}
		if rows, err = tx.MailboxesOfAccount(ctx, number); err != nil {
			return none, err
		}
		for _, row := range rows {
			if row.Mailbox.ID == id {
				out.Mailbox, out.Version = view(st, row), row.Mailbox.Version
			}
		}
		return out, nil
	})
}

// cost is bcrypt's for passwords of mailboxes: mail programs sign in often.
const cost = 10

// hash hashes a password in the form that Dovecot knows, and seals that; nil for none.
//
// Refusals: InvalidInput, WeakPassword.
func (s *Service) hash(password, address string) ([]byte, error) {
	if password == "" {
		return nil, nil
	}
	if err := people.CheckNewPassword("password", password, address); err != nil {
		return nil, err
	}
	hashed, err := bcrypt.GenerateFromPassword([]byte(password), cost)
	if err != nil {
		return nil, refusal.Input("password", "a password for mail has 72 octets at most")
	}
	return s.Key.Seal(sealedHash, append([]byte("{BLF-CRYPT}"), hashed...)), nil
}

// domainFor finds the domain of an account that an address is of: the one behind the @, or the main
// one.
//
// Refusals: InvalidInput, NotFound, WrongState.
func domainFor(ctx context.Context, tx store.Tx, account db.Account, typed string) (db.Domain, names.Domain, error) {
	none := names.Domain{}
	list, err := tx.DomainsOfAccount(ctx, account.ID)
	if err != nil {
		return db.Domain{}, none, err
	}
	wanted := ""
	for _, d := range list {
		if d.Main {
			wanted = d.Name
		}
	}
	if _, after, has := strings.Cut(typed, "@"); has {
		domain, _, err := names.ParseDomain(after)
		if err != nil {
			return db.Domain{}, none, err
		}
		wanted = domain.String()
	}
	at := slices.IndexFunc(list, func(d db.Domain) bool { return d.Name == wanted })
	if at < 0 {
		return db.Domain{}, none, refusal.Input("address", "%s has no domain %s; choose one of its own",
			account.SignInName, usecase.Unicode(wanted))
	}
	domain, _, err := names.ParseDomain(wanted)
	if err != nil {
		return db.Domain{}, none, err
	}
	if list[at].ProvedAt == nil {
		// Whoever merely adds a name must not get the mail that others here write to it.
		return db.Domain{}, none, refusal.New(refusal.WrongState, "nothing shows yet that %s is yours, so it gets no "+
			"mail here", domain.Unicode()).Help(refusal.Remedy{Do: language.New("prove it"),
			Command: "domain prove " + domain.String()})
	}
	return list[at], domain, nil
}

// checkSize refuses a mailbox that is larger than the account may give one.
//
// Refusals: LimitReached.
func checkSize(st entitlement.Entitlement, size *int64) error {
	most := st.Allowance().Amounts()[plans.MailboxSize]
	if size == nil || !plans.Of(*size).Above(most) {
		return nil
	}
	return refusal.New(refusal.LimitReached, "a mailbox of %s holds %s at most", st.Account.SignInName,
		most.Format(plans.Bytes)).On("size")
}

// AddMailbox adds a mailbox to an account. The first one decides on which server its mail is.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddMailbox(ctx context.Context, a usecase.Actor, reference string,
	in api.NewMailbox) (api.MailboxChanged, error) {
	return s.change(ctx, a, reference, "mailbox.add",
		func(tx store.Tx, st entitlement.Entitlement, rows []db.MailboxesOfAccountRow) (int64, error) {
			d, domain, err := domainFor(ctx, tx, st.Account, in.Address)
			if err != nil {
				return 0, err
			}
			local, corrections, err := mail.ParseLocal(in.Address, domain)
			if err != nil {
				return 0, err
			}
			address := mail.Address{Local: local, Domain: domain}
			switch {
			case local == mail.CatchAll:
				return 0, refusal.Input("address", "a mailbox has a name of its own; type what goes before the @")
			case slices.ContainsFunc(rows, func(r db.MailboxesOfAccountRow) bool {
				return r.Mailbox.DomainID == d.ID && r.Mailbox.Local == local
			}):
				return 0, refusal.New(refusal.NameTaken, "there is a mailbox %s already",
					address.Unicode()).On("address")
			case !st.Has("mail"):
				return 0, st.MissingFeature("mail", "mailboxes need the feature mail, which this account does not have")
			}
			if err := st.Admit(plans.Mailboxes, 1); err != nil {
				return 0, err
			}
			if err := checkSize(st, in.Size); err != nil {
				return 0, err
			}
			hash, err := s.hash(in.Password, address.String())
			if err != nil {
				return 0, err
			}
			server, err := s.place(ctx, tx, a, st.Account)
			if err != nil {
				return 0, err
			}
			row, err := tx.AddMailbox(ctx, db.AddMailboxParams{AccountID: st.Account.ID, DomainID: d.ID, Local: local,
				Hash: hash, Size: in.Size})
			if err != nil {
				return 0, err
			}
			for _, c := range corrections {
				a.Note("%s", c)
			}
			a.Summarize("add mailbox %s to account %s", address.Unicode(), st.Account.SignInName)
			st.Account.MailServerID = &server.ID
			elsewhere, err := dns.MailElsewhere(ctx, tx.Queries, st, d.Name)
			if err != nil {
				return 0, err
			}
			if !elsewhere.IsZero() {
				a.Note("%s", elsewhere)
			}
			if hash == nil {
				a.Note("nobody can sign in until it has a password")
			}
			return row.ID, usecase.Record(ctx, tx, a, "mailbox.add", usecase.AboutAccount(st.Account), nil,
				map[string]any{"mailbox": address.String(), "password": hash != nil, "server": server.Label})
		})
}

// find finds a mailbox by its address, or by what goes before the @ if that is clear.
//
// Refusals: InvalidInput, NotFound.
func find(rows []db.MailboxesOfAccountRow, typed string) (db.MailboxesOfAccountRow, error) {
	none := db.MailboxesOfAccountRow{}
	local, domain, _ := strings.Cut(strings.ToLower(strings.TrimSpace(typed)), "@")
	if d, _, err := names.ParseDomain(domain); err == nil {
		domain = d.String()
	}
	var found []db.MailboxesOfAccountRow
	for _, row := range rows {
		if row.Mailbox.Local == local && (domain == "" || row.Domain == domain) {
			found = append(found, row)
		}
	}
	switch len(found) {
	case 0:
		return none, usecase.NotFound("mailbox", typed)
	case 1:
		return found[0], nil
	}
	return none, refusal.Input("mailbox", "there is more than one mailbox %s; type the domain, too: %s@%s", local,
		local, usecase.Unicode(found[0].Domain))
}

// ChangeMailbox changes the password or the size of a mailbox.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NotFound, ServerUnreachable,
// Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeMailbox(ctx context.Context, a usecase.Actor, reference, mailbox string, version int64,
	in api.MailboxChange) (api.MailboxChanged, error) {
	return s.change(ctx, a, reference, "mailbox.change",
		func(tx store.Tx, st entitlement.Entitlement, rows []db.MailboxesOfAccountRow) (int64, error) {
			row, err := find(rows, mailbox)
			if err != nil {
				return 0, err
			}
			address := row.Mailbox.Local + "@" + row.Domain
			if err := usecase.CheckVersion(address, version, row.Mailbox.Version); err != nil {
				return 0, err
			}
			p := db.ChangeMailboxParams{ID: row.Mailbox.ID, Hash: row.Mailbox.Hash, Size: row.Mailbox.Size}
			words := map[string]any{"mailbox": address}
			if in.Size != nil {
				if p.Size = in.Size; *in.Size == 0 {
					p.Size = nil
				}
				if err := checkSize(st, p.Size); err != nil {
					return 0, err
				}
				words["size"] = p.Size
			}
			if in.Password != nil {
				if p.Hash, err = s.hash(*in.Password, address); err != nil {
					return 0, err
				}
				words["password"] = p.Hash != nil
				a.Note("all sessions of %s end", address)
			}
			a.Summarize("change mailbox %s of account %s", address, st.Account.SignInName)
			if err := tx.ChangeMailbox(ctx, p); err != nil {
				return 0, err
			}
			return row.Mailbox.ID, usecase.Record(ctx, tx, a, "mailbox.change", usecase.AboutAccount(st.Account), nil,
				words)
		})
}

// RemoveMailbox removes a mailbox with all messages in it.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveMailbox(ctx context.Context, a usecase.Actor, reference, mailbox string) (api.Started, error) {
	done, err := s.change(ctx, a, reference, "mailbox.remove",
		func(tx store.Tx, st entitlement.Entitlement, rows []db.MailboxesOfAccountRow) (int64, error) {
			row, err := find(rows, mailbox)
			if err != nil {
				return 0, err
			}
			address := row.Mailbox.Local + "@" + row.Domain
			a.Summarize("remove mailbox %s from account %s", address, st.Account.SignInName)
			a.Note("all messages in it are deleted")
			if err := tx.RemoveMailbox(ctx, row.Mailbox.ID); err != nil {
				return 0, err
			}
			return 0, usecase.Record(ctx, tx, a, "mailbox.remove", usecase.AboutAccount(st.Account),
				map[string]any{"mailbox": address}, nil)
		})
	return api.Started{Operation: done.Operation}, err
}
