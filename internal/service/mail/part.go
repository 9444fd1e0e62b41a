package mail

import (
	"context"
	"slices"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// sealedHash names the hashes of mailboxes where they are sealed.
const sealedHash = "hash of a mailbox"

// Part is the mail of an account, on the server that it was placed on with its first mailbox. It
// comes after the part that says whether the account is suspended: then nobody signs in, and mail
// still arrives.
func (s *Service) Part() rollout.Part {
	return rollout.Part{Name: "mail", Fill: s.fill, Describe: s.describeServer,
		Prepare: func(ctx context.Context, server db.Server, m manifest.Manifest) error {
			if m.Mail == nil {
				return nil
			}
			return s.rollout.SyncServer(ctx, server) // it must know that it is a mail server
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error {
			if err := tx.DeleteMailboxes(ctx, accountID); err != nil {
				return err
			}
			return tx.SetMailServer(ctx, db.SetMailServerParams{ID: accountID})
		}}
}

func (s *Service) fill(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *rollout.Manifests) error {
	if st.Account.MailServerID == nil {
		return nil
	}
	rows, err := q.MailboxesOfAccount(ctx, st.Account.ID)
	if err != nil || len(rows) == 0 {
		return err
	}
	mail := &manifest.Mail{}
	for _, row := range rows {
		domain, _, err := names.ParseDomain(row.Domain)
		if err != nil {
			return err
		}
		if !slices.Contains(mail.Domains, domain) {
			mail.Domains = append(mail.Domains, domain)
		}
		box := manifest.Mailbox{Address: row.Mailbox.Local + "@" + row.Domain, Size: sizeInForce(st, row.Mailbox.Size)}
		if row.Mailbox.Hash != nil && !m.Home().Suspended {
			hash, err := s.Key.Open(sealedHash, row.Mailbox.Hash)
			if err != nil {
				return err
			}
			box.Hash = string(hash)
		}
		mail.Mailboxes = append(mail.Mailboxes, box)
	}
	m.On(*st.Account.MailServerID).Mail = mail
	return nil
}

// sizeInForce is the most that a mailbox may hold, in bytes: what was set for it, but not more than
// the account may give one. Nil is unlimited.
func sizeInForce(st entitlement.Entitlement, set *int64) *int64 {
	most := st.Allowance().Amounts()[plans.MailboxSize]
	switch {
	case most.Unlimited:
		return set
	case set == nil || *set > most.N:
		return &most.N
	}
	return set
}

// place returns the server of an account's mail. The first time, that is the server of its home if
// mail can be there, else the one that holds the mail of the fewest accounts.
//
// Refusals: NoServer.
func (s *Service) place(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account) (db.Server, error) {
	list, err := tx.MailServers(ctx)
	if err != nil {
		return db.Server{}, err
	}
	if account.MailServerID != nil {
		return tx.ServerByID(ctx, *account.MailServerID)
	}
	if len(list) == 0 {
		return db.Server{}, refusal.New(refusal.NoServer, "no server takes mail yet").
			Help(refusal.Remedy{By: refusal.Operator, Do: language.New("add one, or name one"),
				Command: "server change SERVER --host-name NAME"})
	}
	best := list[0]
	for _, one := range list {
		if one.Server.ID == account.ServerID {
			best = one
			break
		}
		if one.Accounts < best.Accounts {
			best = one
		}
	}
	if best.Server.ID != account.ServerID {
		a.Note("the mail of %s is on %s: it holds the mail of the fewest accounts", account.SignInName,
			best.Server.Label)
	}
	return best.Server, tx.SetMailServer(ctx, db.SetMailServerParams{ID: account.ID, MailServerID: &best.Server.ID})
}

// describeServer says what a server with the role mail is to know.
func (s *Service) describeServer(_ context.Context, _ *db.Queries, server db.Server,
	out *manifest.Server) error {
	if server.HostName == "" || !slices.Contains(server.Roles, "mail") {
		return nil
	}
	name, _, err := names.ParseDomain(server.HostName)
	if err != nil {
		return err
	}
	out.Mail = &manifest.MailServer{Name: name}
	return nil
}
