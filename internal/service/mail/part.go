package mail

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"net"
	"slices"

	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/manifest"
	"victualler/internal/service/dns"
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
			if m.Mail == nil && m.SendsBy == nil {
				return nil
			}
			return s.rollout.SyncServer(ctx, server) // it must know that it is a mail server, or its key
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error {
			if err := errors.Join(tx.DeleteMailboxes(ctx, accountID), tx.DeleteMailAddresses(ctx, accountID),
				tx.DeleteMailLists(ctx, accountID),
				tx.DeleteSigningKeys(ctx, accountID), tx.DeleteMailLog(ctx, accountID),
				tx.ResumeMail(ctx, accountID)); err != nil {
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
	if err != nil || r.none() {
		return err
	}
	limits := st.ServerLimits()
	out := &manifest.Mail{Hourly: orUnlimited(limits.SendsPerHour), BounceShare: orUnlimited(limits.BounceShare),
		Silent: m.Home().Suspended, Language: m.Home().Language}
	suspended, err := q.MailSuspension(ctx, st.Account.ID)
	switch {
	case err == nil:
		out.Silent, out.Deferred = out.Silent || suspended.Sending, suspended.Receiving
	case !store.None(err):
		return err
	}
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
		box.Filters = filtersOf(row.Mailbox)
		if row.Mailbox.JunkAbove != nil {
			box.JunkAbove = int(*row.Mailbox.JunkAbove)
		}
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
		for _, p := range r.programsOf(row.Mailbox.ID) {
			if m.Home().Suspended {
				break
			}
			hash, err := s.Key.Open(sealedHash, p.Hash)
			if err != nil {
				return err
			}
			box.Programs = append(box.Programs, manifest.ProgramPassword{Key: p.Key, Hash: string(hash)})
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
	for _, row := range r.lists {
		out.Lists = append(out.Lists, r.listToTell(row))
	}
	if out.Keys, err = s.keysInForce(ctx, q, st.Account.ID); err != nil {
		return err
	}
	if out.Senders, err = senders(ctx, q, st.Account.ID); err != nil {
		return err
	}
	server, err := q.ServerByID(ctx, *st.Account.MailServerID)
	if err != nil {
		return err
	}
	if st.Account.ServerID != server.ID {
		if err := s.link(ctx, q, st.Account, server, m, out); err != nil {
			return err
		}
	}
	m.On(server.ID).Mail = out
	return tellSites(ctx, q, server, m, out)
}

// link has what the account's sites send go through the server with its mail: each of the two is
// told whom to expect.
func (s *Service) link(ctx context.Context, q *db.Queries, account db.Account, server db.Server,
	m *rollout.Manifests, out *manifest.Mail) error {
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return err
	}
	key, err := s.linkKeys(ctx, q)
	if err != nil {
		return err
	}
	if err := divideDisk(ctx, q, account, m, out); err != nil {
		return err
	}
	out.Home = key(account.ServerID).Public().(ed25519.PublicKey)
	m.Home().SendsBy = &manifest.SendsBy{Host: host, Key: key(server.ID).Public().(ed25519.PublicKey)}
	return nil
}

// divideDisk leaves to each of the two servers what the other leaves of the account's disk limit.
func divideDisk(ctx context.Context, q *db.Queries, account db.Account, m *rollout.Manifests,
	out *manifest.Mail) error {
	limit := m.Home().Home.DiskLimit
	if limit == nil {
		return nil
	}
	rows, err := q.DiskUsedByServer(ctx, account.ID)
	if err != nil {
		return err
	}
	used := map[int64]int64{}
	for _, row := range rows {
		used[row.ServerID] = row.Bytes
	}
	sites, messages := plans.Room(*limit, used[*account.MailServerID]), plans.Room(*limit, used[account.ServerID])
	m.Home().Home.DiskLimit, out.DiskLimit = &sites, &messages
	return nil
}

// tellSites has the account's sites answer for the names by which mail programs look for the
// settings of a domain, and gives the mail server the certificates for the domains' own names.
func tellSites(ctx context.Context, q *db.Queries, server db.Server, m *rollout.Manifests, out *manifest.Mail) error {
	if server.HostName == "" {
		return nil
	}
	host, _, err := names.ParseDomain(server.HostName)
	if err != nil {
		return err
	}
	_, err = dns.HostCertificate(ctx, q, server.HostName)
	if err != nil && !store.None(err) {
		return err
	}
	trusted := err == nil
	sites := m.Home().Sites
	for n := range sites {
		site := &sites[n]
		if !slices.Contains(out.Domains, site.Domain) {
			continue
		}
		told := &manifest.SiteMail{Server: host}
		var covered []string
		if site.Certificate != nil {
			if covered, err = site.Certificate.Names(); err != nil {
				return err
			}
		}
		for _, label := range mail.WebLabels {
			name := label + "." + site.Domain.String()
			if !slices.ContainsFunc(sites, func(s manifest.Site) bool { return s.Domain.String() == name }) {
				told.Names = append(told.Names, name)
				told.Policy = told.Policy || label == mail.PolicyLabel && trusted && certificates.Covers(covered, name)
			}
		}
		site.Mail = told
		own, _, err := names.ParseDomain(mail.ServerLabel + "." + site.Domain.String())
		if err == nil && certificates.Covers(covered, own.String()) {
			out.Certificates = append(out.Certificates, manifest.NamedCertificate{Name: own,
				Certificate: *site.Certificate})
		}
	}
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

// place returns the server of an account's mail. The first time, that is the one of the label that
// is named, or else the server of its home if mail can be there, or else the one that holds the
// mail of the fewest accounts.
//
// Refusals: NoServer, NotAllowed, NotFound, WrongState.
func (s *Service) place(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account,
	named string) (db.Server, error) {
	if named != "" && (a.Role == rights.Customer || a.Role == rights.Holder) {
		return db.Server{}, refusal.New(refusal.NotAllowed, "the server is not for customers to choose").On("server")
	}
	if account.MailServerID != nil {
		server, err := tx.ServerByID(ctx, *account.MailServerID)
		if err == nil && named != "" && named != server.Label {
			err = refusal.New(refusal.WrongState, "the mail of this account is on %s already, and stays there; leave "+
				"out the server", server.Label).On("server")
		}
		return server, err
	}
	list, err := tx.MailServers(ctx)
	if err != nil {
		return db.Server{}, err
	}
	if len(list) == 0 {
		return db.Server{}, refusal.New(refusal.NoServer, "no server takes mail yet").
			Help(refusal.Remedy{By: refusal.Operator, Do: language.New("add one, or name one"),
				Command: "server change SERVER --host-name NAME"})
	}
	best, why := choose(list, account.ServerID, named)
	if best == nil {
		return db.Server{}, refusal.New(refusal.NotFound, "no server %q takes mail", named).On("server")
	}
	if best.ID != account.ServerID {
		a.Note("the mail of %s is on %s: %s", account.SignInName, best.Label, why)
	}
	return *best, tx.SetMailServer(ctx, db.SetMailServerParams{ID: account.ID, MailServerID: &best.ID,
		MailPlacement: why.Encode()})
}

// choose chooses among servers for the mail of an account with its home on one of them, and says
// why. A name that none has leads to nil.
func choose(list []db.MailServersRow, home int64, named string) (*db.Server, language.Text) {
	if named != "" {
		for _, one := range list {
			if one.Server.Label == named {
				return &one.Server, language.New("named by the person who added the first mailbox")
			}
		}
		return nil, language.Text{}
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
	return &best.Server, language.New("it holds the mail of the fewest accounts")
}

// mailboxPath is where holders look after their mailboxes.
const mailboxPath = "/mailbox"

// describeServer says what a server with the role mail is to know, and one with sites.
func (s *Service) describeServer(ctx context.Context, q *db.Queries, server db.Server,
	out *manifest.Server) error {
	settings, err := q.Settings(ctx)
	if err != nil {
		return err
	}
	web := slices.Contains(server.Roles, "web")
	if web && settings.Console != "" {
		out.MailboxPage = usecase.Link(settings, mailboxPath)
	}
	if web || slices.Contains(server.Roles, "mail") {
		key, err := s.linkKeys(ctx, q)
		if err != nil {
			return err
		}
		out.LinkKey = manifest.Secret(base64.StdEncoding.EncodeToString(key(server.ID).Seed()))
	}
	if server.HostName == "" || !slices.Contains(server.Roles, "mail") {
		return nil
	}
	name, _, err := names.ParseDomain(server.HostName)
	if err != nil {
		return err
	}
	returnKey, err := s.returnKey(ctx, q)
	if err != nil {
		return err
	}
	out.Mail = &manifest.MailServer{Name: name,
		ReturnKey: manifest.Secret(base64.StdEncoding.EncodeToString(returnKey))}
	if out.Mail.Certificate, err = s.certs.ServerCertificate(ctx, q, server.HostName); err != nil {
		return err
	}
	out.Mail.Days = int(settings.MailDays)
	if settings.Console != "" {
		out.Mail.Leave = usecase.Link(settings, leavePath)
	}
	for _, zone := range settings.Blocklists {
		domain, _, err := names.ParseDomain(zone)
		if err != nil {
			return err
		}
		out.Mail.Blocklists = append(out.Mail.Blocklists, domain)
	}
	if server.SpamFilter {
		out.Mail.Filter = &manifest.MailFilter{
			Spam:        mail.Spam{JunkAbove: int(settings.JunkAbove), RefuseAbove: int(settings.RefuseAbove)},
			Greylisting: settings.Greylisting, Forbidden: settings.ForbiddenAttachments, Scanner: settings.VirusScanner}
	}
	return nil
}
