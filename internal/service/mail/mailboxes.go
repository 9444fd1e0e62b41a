package mail

import (
	"context"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/passwords"
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
	r, err := loadTold(ctx, s.Store.Queries, number)
	if err != nil {
		return out, err
	}
	for _, row := range r.boxes {
		out.Mailboxes = append(out.Mailboxes, view(st, r, row))
	}
	suspended, err := s.Store.MailSuspension(ctx, number)
	switch {
	case err == nil:
		out.Suspension = &api.MailSuspension{Sending: suspended.Sending, Receiving: suspended.Receiving,
			Why: suspended.Why, By: suspended.By, Since: suspended.At}
	case !store.None(err):
		return out, err
	}
	if a.Role == rights.Operator { // it speaks of other servers
		out.Placement = a.SayKept(account.MailPlacement)
	}
	out.Server, err = serverName(ctx, s.Store.Queries, account)
	return out, err
}

// Profile is a file by which telephones set up a mailbox ([mail.Profile]).
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Profile(ctx context.Context, a usecase.Actor, reference, mailbox string) ([]byte, error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return nil, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return nil, err
	}
	row, err := r.find(mailbox)
	if err != nil {
		return nil, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return nil, err
	}
	server, err := serverName(ctx, s.Store.Queries, account)
	if err != nil {
		return nil, err
	}
	settings, err := s.Store.Settings(ctx)
	return mail.Profile(box(row), server, settings.Title), err
}

// serverName is the name of the server that an account's mail is on; empty while it has none.
func serverName(ctx context.Context, q *db.Queries, account db.Account) (string, error) {
	if account.MailServerID == nil {
		return "", nil
	}
	server, err := q.ServerByID(ctx, *account.MailServerID)
	return server.HostName, err
}

func view(st entitlement.Entitlement, r rows, row db.MailboxesOfAccountRow) api.Mailbox {
	b := row.Mailbox
	v := api.Mailbox{Address: box(row), Unicode: unicode(box(row)), Password: b.Hash != nil, Size: b.Size,
		Most: sizeInForce(st, b.Size), ForwardTo: b.ForwardTo, SendsPerHour: b.SendsPerHour, Domain: row.Domain,
		AddedAt: b.AddedAt, Version: b.Version, Programs: []api.ProgramPassword{}, Filters: viewFilters(filtersOf(b)),
		FailedSignIns: failuresView(r.failures, b.ID)}
	for _, p := range r.programsOf(b.ID) {
		v.Programs = append(v.Programs, api.ProgramPassword{Name: p.Name, AddedAt: p.AddedAt})
	}
	if b.JunkAbove != nil {
		points := float64(*b.JunkAbove) / 10
		v.JunkAbove = &points
	}
	if b.ReplyText != nil {
		v.Reply = &api.AbsenceReply{Subject: b.ReplySubject, Text: *b.ReplyText, From: b.ReplyFrom, Until: b.ReplyUntil}
	}
	return v
}

// tellMailbox tells of a mailbox after a change.
func tellMailbox(id int64) func(outcome) api.MailboxChanged {
	return func(out outcome) api.MailboxChanged {
		told := api.MailboxChanged{Operation: out.operation, Server: out.server}
		for _, row := range out.boxes {
			if row.Mailbox.ID == id {
				told.Mailbox, told.Version = view(out.st, out.rows, row), row.Mailbox.Version
			}
		}
		return told
	}
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
	return s.seal(password, cost)
}

// seal hashes a password at a cost of bcrypt's, and seals the hash.
//
// Refusals: InvalidInput.
func (s *Service) seal(password string, cost int) ([]byte, error) {
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
func domainFor(list []db.Domain, account db.Account, typed string) (db.Domain, names.Domain, error) {
	none := names.Domain{}
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
	return change(ctx, s, a, reference, "mailbox.add",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.MailboxChanged, error) {
			adding, err := s.adding(ctx, tx, a, st, r, in.Server)
			if err != nil {
				return nil, err
			}
			added, err := adding.add(ctx, in, func(address string) ([]byte, error) {
				return s.hash(in.Password,
					address)
			})
			if err != nil {
				return nil, err
			}
			a.Summarize("add mailbox %s to account %s", unicode(added.address), st.Account.SignInName)
			if err := adding.end(ctx); err != nil {
				return nil, err
			}
			if in.Password == "" {
				a.Note("nobody can sign in until it has a password")
			}
			words := map[string]any{"mailbox": added.address, "password": in.Password != "",
				"server": adding.server.Label}
			if len(in.ForwardTo) > 0 {
				words["forward_to"] = in.ForwardTo
			}
			return tellMailbox(added.id), usecase.Record(ctx, tx, a, "mailbox.add", usecase.AboutAccount(st.Account),
				nil, words)
		})
}

// AddMailboxes adds many mailboxes to an account, all of them or none. Those without a password get
// one, which is told here and nowhere else.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddMailboxes(ctx context.Context, a usecase.Actor, reference string,
	in api.NewMailboxes) (api.MailboxesAdded, error) {
	// Hashes take time, so they are made before anything is locked.
	made := make([]string, len(in.Mailboxes))
	hashes := make([][]byte, len(in.Mailboxes))
	errs := make([]error, len(in.Mailboxes))
	var group sync.WaitGroup
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for n, one := range in.Mailboxes {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if one.Password != "" {
				hashes[n], errs[n] = s.hash(one.Password, one.Address)
				return
			}
			made[n] = passwords.Generate(madeLength)
			hashes[n], errs[n] = s.seal(made[n], bcrypt.MinCost)
		})
	}
	group.Wait()
	for n, err := range errs {
		if err != nil {
			return api.MailboxesAdded{}, refusal.InLine(n+1, in.Mailboxes[n].Address, err)
		}
	}
	return change(ctx, s, a, reference, "mailbox.add_many",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.MailboxesAdded, error) {
			adding, err := s.adding(ctx, tx, a, st, r, in.Mailboxes[0].Server)
			if err != nil {
				return nil, err
			}
			out := api.MailboxesAdded{Mailboxes: []api.MailboxAdded{}}
			addresses := []string{}
			for n, one := range in.Mailboxes {
				added, err := adding.add(ctx, one, func(string) ([]byte, error) { return hashes[n], nil })
				if err != nil {
					return nil, refusal.InLine(n+1, one.Address, err)
				}
				addresses = append(addresses, added.address)
				out.Mailboxes = append(out.Mailboxes, api.MailboxAdded{Address: added.address, Password: made[n]})
			}
			a.Summarize("add %s to account %s", usecase.Counted(len(addresses), "mailbox"), st.Account.SignInName)
			if err := adding.end(ctx); err != nil {
				return nil, err
			}
			tell := func(done outcome) api.MailboxesAdded {
				out.Operation, out.Server = done.operation, done.server
				return out
			}
			return tell, usecase.Record(ctx, tx, a, "mailbox.add_many", usecase.AboutAccount(st.Account), nil,
				map[string]any{"mailboxes": addresses, "server": adding.server.Label})
		})
}

// madeLength is how many letters and digits a password has that is made here. Nobody guesses one,
// so its hash need not be slow.
const madeLength = 20

// adding adds mailboxes to an account, which is locked.
type adding struct {
	service *Service
	tx      store.Tx
	actor   usecase.Actor
	st      entitlement.Entitlement
	server  db.Server
	domains []db.Domain
	book    mail.Book
	begun   map[int64]db.Domain
	added   int64
}

// added is a mailbox that was added.
type added struct {
	id      int64
	address string
}

// adding begins to add mailboxes, on the server that is named if any.
//
// Refusals: InvalidInput, NoServer, NotAllowed, NotFound, WrongState.
func (s *Service) adding(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement, r rows,
	named string) (*adding, error) {
	if !st.Has("mail") {
		return nil, st.MissingFeature("mail", "mailboxes need the feature mail, which this account does not have")
	}
	domains, err := tx.DomainsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	server, err := s.place(ctx, tx, a, st.Account, named)
	return &adding{service: s, tx: tx, actor: a, st: st, server: server, domains: domains, book: r.book(),
		begun: map[int64]db.Domain{}}, err
}

// add adds one of them; hash is asked once everything else is sound.
//
// Refusals: InvalidInput, LimitReached, NameTaken, NotFound, WrongState.
func (d *adding) add(ctx context.Context, in api.NewMailbox, hash func(address string) ([]byte, error)) (added,
	error) {
	of, domain, err := domainFor(d.domains, d.st.Account, in.Address)
	if err != nil {
		return added{}, err
	}
	local, corrections, err := mail.ParseLocal(in.Address, domain)
	if err != nil {
		return added{}, err
	}
	address := mail.Address{Local: local, Domain: domain}.String()
	if local == mail.CatchAll {
		return added{}, refusal.Input("address", "a mailbox has a name of its own; type what goes before the @")
	}
	if err := taken(d.book, address); err != nil {
		return added{}, err
	}
	if in.Server != "" && in.Server != d.server.Label {
		return added{}, refusal.Input("server", "the mail of one account is on one server; name the same for all")
	}
	if err := checkSize(d.st, in.Size); err != nil {
		return added{}, err
	}
	if !slices.Contains(d.book.Domains, of.Name) {
		d.book.Domains = append(d.book.Domains, of.Name)
	}
	forwards, err := parseTargets(in.ForwardTo, domain, d.book)
	if err != nil {
		return added{}, err
	}
	hashed, err := hash(address)
	if err != nil {
		return added{}, err
	}
	row, err := d.tx.AddMailbox(ctx, db.AddMailboxParams{AccountID: d.st.Account.ID, DomainID: of.ID, Local: local,
		Hash: hashed, Size: in.Size, ForwardTo: forwards, SendsPerHour: in.SendsPerHour})
	if err != nil {
		return added{}, err
	}
	for _, c := range corrections {
		d.actor.Note("%s", c)
	}
	d.book.Mailboxes[address], d.begun[of.ID] = forwards, of
	d.added++
	return added{row.ID, address}, nil
}

// end admits what was added, and does what belongs to its domains.
//
// Refusals: LimitReached.
func (d *adding) end(ctx context.Context) error {
	if err := d.st.Admit(plans.Mailboxes, d.added); err != nil {
		return err
	}
	for _, of := range d.begun {
		if err := d.service.mailBegins(ctx, d.tx, d.actor, d.st, d.server, of); err != nil {
			return err
		}
	}
	return nil
}

// namesAppear is how long it takes until public DNS shows records that have just been added.
const namesAppear = time.Minute

// mailBegins does what belongs to an address of a domain, which may be its first one: the domain's
// messages are signed from now on; and it is said what keeps its mail from coming here.
func (s *Service) mailBegins(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement,
	server db.Server, d db.Domain) error {
	if err := s.turnKeys(ctx, tx, st.Account.ID, d.ID); err != nil {
		return err
	}
	// The records of the domain's names for mail are there then.
	soon := s.Now().Add(namesAppear)
	if err := tx.ScheduleCertificateBy(ctx, db.ScheduleCertificateByParams{DomainID: d.ID, DueAt: soon}); err != nil {
		return err
	}
	st.Account.MailServerID = &server.ID
	elsewhere, err := dns.MailElsewhere(ctx, tx.Queries, st, d.Name)
	if err == nil && !elsewhere.IsZero() {
		a.Note("%s", elsewhere)
	}
	return err
}

// find finds a mailbox by its address, or by what goes before the @ if that is clear.
//
// Refusals: InvalidInput, NotFound.
func (r rows) find(typed string) (db.MailboxesOfAccountRow, error) {
	none := db.MailboxesOfAccountRow{}
	local, domain := splitTyped(typed)
	var found []db.MailboxesOfAccountRow
	for _, row := range r.boxes {
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

// ChangeMailbox changes the password of a mailbox, its size, what it passes on and how much its
// holder may send.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NotFound, ServerUnreachable,
// Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeMailbox(ctx context.Context, a usecase.Actor, reference, mailbox string, version int64,
	in api.MailboxChange) (api.MailboxChanged, error) {
	return change(ctx, s, a, reference, "mailbox.change",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.MailboxChanged, error) {
			row, err := r.find(mailbox)
			if err != nil {
				return nil, err
			}
			address := box(row)
			if err := usecase.CheckVersion(address, version, row.Mailbox.Version); err != nil {
				return nil, err
			}
			p := db.ChangeMailboxParams{ID: row.Mailbox.ID, Hash: row.Mailbox.Hash, Size: row.Mailbox.Size,
				ForwardTo: row.Mailbox.ForwardTo, SendsPerHour: row.Mailbox.SendsPerHour,
				JunkAbove: row.Mailbox.JunkAbove}
			before, words := map[string]any{}, map[string]any{"mailbox": address}
			if in.Size != nil {
				p.Size = noneIfZero(in.Size)
				if err := checkSize(st, p.Size); err != nil {
					return nil, err
				}
				before["size"], words["size"] = row.Mailbox.Size, p.Size
			}
			if in.SendsPerHour != nil {
				p.SendsPerHour = noneIfZero(in.SendsPerHour)
				before["sends_per_hour"], words["sends_per_hour"] = row.Mailbox.SendsPerHour, p.SendsPerHour
			}
			if in.JunkAbove != nil {
				if p.JunkAbove, err = junkAbove(*in.JunkAbove); err != nil {
					return nil, err
				}
				before["junk_above"], words["junk_above"] = row.Mailbox.JunkAbove, p.JunkAbove
			}
			if in.ForwardTo != nil {
				domain, _, err := names.ParseDomain(row.Domain)
				if err != nil {
					return nil, err
				}
				if p.ForwardTo, err = parseTargets(*in.ForwardTo, domain, r.book()); err != nil {
					return nil, err
				}
				before["forward_to"], words["forward_to"] = row.Mailbox.ForwardTo, p.ForwardTo
			}
			if in.Reply != nil {
				reply := db.SetAbsenceReplyParams{ID: row.Mailbox.ID}
				if text := strings.TrimSpace(in.Reply.Text); text != "" {
					reply = db.SetAbsenceReplyParams{ID: row.Mailbox.ID, ReplyText: &text,
						ReplySubject: strings.TrimSpace(in.Reply.Subject), ReplyFrom: in.Reply.From,
						ReplyUntil: in.Reply.Until}
				}
				if from, until := reply.ReplyFrom, reply.ReplyUntil; from != nil && until != nil &&
					!until.After(*from) {
					return nil, refusal.Input("reply.until", "the absence ends before it begins")
				}
				if err := tx.SetAbsenceReply(ctx, reply); err != nil {
					return nil, err
				}
				before["reply"], words["reply"] = row.Mailbox.ReplyText != nil, reply.ReplyText != nil
			}
			if in.Filters != nil {
				filters, err := setFilters(ctx, tx, row.Mailbox.ID, *in.Filters)
				if err != nil {
					return nil, err
				}
				before["filters"], words["filters"] = len(filtersOf(row.Mailbox)), len(filters)
			}
			if in.Password != nil {
				if p.Hash, err = s.hash(*in.Password, address); err != nil {
					return nil, err
				}
				words["password"] = p.Hash != nil
				stays := db.EndMailboxSessionsParams{MailboxID: row.Mailbox.ID}
				if a.Mailbox == address {
					stays.ID = a.SessionID
				}
				if err := tx.EndMailboxSessions(ctx, stays); err != nil {
					return nil, err
				}
				a.Note("all sessions of %s end", address)
			}
			a.Summarize("change mailbox %s of account %s", address, st.Account.SignInName)
			if err := tx.ChangeMailbox(ctx, p); err != nil {
				return nil, err
			}
			return tellMailbox(row.Mailbox.ID), usecase.Record(ctx, tx, a, "mailbox.change",
				usecase.AboutAccount(st.Account), before, words)
		})
}

// junkAbove is a mailbox's own bound for spam in tenths of a point; nil for 0.
//
// Refusals: InvalidInput.
func junkAbove(points float64) (*int32, error) {
	tenths := int32(math.Round(points * 10))
	switch {
	case tenths == 0:
		return nil, nil
	case tenths < mail.LeastScore || tenths > mail.MostScore:
		return nil, refusal.Input("junk_above", "messages go to Junk from 1 to 100 points on; 0 is what the "+
			"installation says")
	}
	return &tenths, nil
}

// noneIfZero is nothing for 0, by which people take away an amount.
func noneIfZero(n *int64) *int64 {
	if *n == 0 {
		return nil
	}
	return n
}

// RemoveMailbox removes a mailbox with all messages in it. Addresses no longer lead there.
//
// Refusals: ApplyFailed, InUse, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveMailbox(ctx context.Context, a usecase.Actor, reference, mailbox string) (api.Started, error) {
	return change(ctx, s, a, reference, "mailbox.remove",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.Started, error) {
			row, err := r.find(mailbox)
			if err != nil {
				return nil, err
			}
			address := box(row)
			a.Summarize("remove mailbox %s from account %s", address, st.Account.SignInName)
			a.Note("all messages in it are deleted")
			if err := r.forget(ctx, tx, a, address); err != nil {
				return nil, err
			}
			if err := tx.RemoveMailbox(ctx, row.Mailbox.ID); err != nil {
				return nil, err
			}
			return func(out outcome) api.Started { return api.Started{Operation: out.operation} },
				usecase.Record(ctx, tx, a, "mailbox.remove", usecase.AboutAccount(st.Account),
					map[string]any{"mailbox": address}, nil)
		})
}
