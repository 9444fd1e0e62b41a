package mail

import (
	"context"
	"encoding/base64"
	"errors"
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
			if err := errors.Join(tx.DeleteMailboxes(ctx, accountID), tx.DeleteMailAddresses(ctx, accountID),
				tx.DeleteSigningKeys(ctx, accountID), tx.DeleteMailLog(ctx, accountID)); err != nil {
				return err
			}
			return tx.SetMailServer(ctx, db.SetMailServerParams{ID: accountID})
		}}
}

func (s *Service) fill(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *rollout.Manifests) error {
	if st.Account.MailServerID == nil {
		return nil
	}
	r, err := loadRows(ctx, q, st.Account.ID)
	if err != nil || len(r.boxes)+len(r.addresses) == 0 {
		return err
	}
	limits := st.ServerLimits()
	out := &manifest.Mail{Hourly: orUnlimited(limits.SendsPerHour), BounceShare: orUnlimited(limits.BounceShare),
		Silent: m.Home().Suspended}
	book := r.book()
	for _, name := range book.Domains {
		domain, _, err := names.ParseDomain(name)
		if err != nil {
			return err
		}
		out.Domains = append(out.Domains, domain)
	}
	for _, row := range r.boxes {
		box := manifest.Mailbox{Address: box(row), Size: sizeInForce(st, row.Mailbox.Size),
			Hourly: row.Mailbox.SendsPerHour}
		box.Copies, box.Forwards = book.Path(box.Address).Stops()
		if row.Mailbox.ReplyText != nil {
			box.Reply = &manifest.AbsenceReply{Subject: row.Mailbox.ReplySubject, Text: *row.Mailbox.ReplyText,
				From: row.Mailbox.ReplyFrom, Until: row.Mailbox.ReplyUntil}
		}
		if row.Mailbox.Hash != nil && !m.Home().Suspended {
			hash, err := s.Key.Open(sealedHash, row.Mailbox.Hash)
			if err != nil {
				return err
			}
			box.Hash = string(hash)
		}
		out.Mailboxes = append(out.Mailboxes, box)
	}
	for _, one := range r.list() {
		address := manifest.MailAddress{Address: one.Address}
		if address.Targets, address.Forwards = book.Path(one.Address).Stops(); len(address.Targets)+
			len(address.Forwards) > 0 {
			out.Addresses = append(out.Addresses, address)
		}
	}
	if out.Keys, err = s.keysInForce(ctx, q, st.Account.ID); err != nil {
		return err
	}
	if st.Account.ServerID == *st.Account.MailServerID {
		if out.Senders, err = senders(ctx, q, st.Account.ID); err != nil {
			return err
		}
	}
	m.On(*st.Account.MailServerID).Mail = out
	return nil
}

// senders are the domains that the sites of an account may send for: those that are shown to be
// theirs, the main one first.
func senders(ctx context.Context, q *db.Queries, account int64) ([]names.Domain, error) {
	list, err := q.DomainsOfAccount(ctx, account)
	if err != nil {
		return nil, err
	}
	var found []names.Domain
	for _, main := range []bool{true, false} {
		for _, d := range list {
			if d.Main != main || d.ProvedAt == nil {
				continue
			}
			domain, _, err := names.ParseDomain(d.Name)
			if err != nil {
				return nil, err
			}
			found = append(found, domain)
		}
	}
	return found, nil
}

func orUnlimited(a plans.Amount) *int64 {
	if a.Unlimited {
		return nil
	}
	return &a.N
}

// sizeInForce is the most that a mailbox may hold, in bytes: what was set for it, but not more than
// the account may give one. Nil is unlimited.
func sizeInForce(st entitlement.Entitlement, set *int64) *int64 {
	most := st.ServerLimits().MailboxSize
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
func (s *Service) describeServer(ctx context.Context, q *db.Queries, server db.Server,
	out *manifest.Server) error {
	if server.HostName == "" || !slices.Contains(server.Roles, "mail") {
		return nil
	}
	name, _, err := names.ParseDomain(server.HostName)
	if err != nil {
		return err
	}
	key, err := s.returnKey(ctx, q)
	if err != nil {
		return err
	}
	out.Mail = &manifest.MailServer{Name: name, ReturnKey: manifest.Secret(base64.StdEncoding.EncodeToString(key))}
	return nil
}
