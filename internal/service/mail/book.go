package mail

import (
	"context"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// rows are what an account has of mail.
type rows struct {
	boxes     []db.MailboxesOfAccountRow
	addresses []db.MailAddressesOfAccountRow
	lists     []db.MailListsOfAccountRow
	// members are those of all lists, and their owners.
	members []db.ListMember
	// programs are passwords for one program each.
	programs []db.ProgramPassword
	// failures are the sign-ins to mailboxes that have failed, where they are told.
	failures []db.MailboxFailuresOfAccountRow
}

// programsOf are those of a mailbox.
func (r rows) programsOf(mailbox int64) []db.ProgramPassword {
	var list []db.ProgramPassword
	for _, p := range r.programs {
		if p.MailboxID == mailbox {
			list = append(list, p)
		}
	}
	return list
}

func loadRows(ctx context.Context, q *db.Queries, account int64) (r rows, err error) {
	if r.boxes, err = q.MailboxesOfAccount(ctx, account); err != nil {
		return r, err
	}
	if r.addresses, err = q.MailAddressesOfAccount(ctx, account); err != nil {
		return r, err
	}
	if r.lists, err = q.MailListsOfAccount(ctx, account); err != nil {
		return r, err
	}
	if len(r.lists) > 0 {
		if r.members, err = q.ListMembersOfAccount(ctx, account); err != nil {
			return r, err
		}
	}
	r.programs, err = q.ProgramPasswordsOfAccount(ctx, account)
	return r, err
}

// loadTold is [loadRows] with what people alone are told.
func loadTold(ctx context.Context, q *db.Queries, account int64) (r rows, err error) {
	if r, err = loadRows(ctx, q, account); err != nil {
		return r, err
	}
	r.failures, err = q.MailboxFailuresOfAccount(ctx, account)
	return r, err
}

// box is the address of a mailbox, address that of another address.
func box(row db.MailboxesOfAccountRow) string { return row.Mailbox.Local + "@" + row.Domain }
func addressOf(row db.MailAddressesOfAccountRow) string {
	return row.MailAddress.Local + "@" + row.Domain
}

func listAddress(row db.MailListsOfAccountRow) string { return row.MailList.Local + "@" + row.Domain }

// unicode is an address as people write it.
func unicode(address string) string {
	local, domain, _ := strings.Cut(address, "@")
	return local + "@" + usecase.Unicode(domain)
}

// splitTyped parts an address as people type it; the domain, in A-labels, is empty where there is
// none.
func splitTyped(typed string) (local, domain string) {
	local, domain, _ = strings.Cut(strings.ToLower(strings.TrimSpace(typed)), "@")
	if d, _, err := names.ParseDomain(domain); err == nil {
		domain = d.String()
	}
	return local, domain
}

// domains are those that get mail, in A-labels and sorted.
func (r rows) domains() []string {
	var list []string
	for _, row := range r.boxes {
		list = append(list, row.Domain)
	}
	for _, row := range r.addresses {
		list = append(list, row.Domain)
	}
	for _, row := range r.lists {
		list = append(list, row.Domain)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// none reports whether the account has no mail.
func (r rows) none() bool { return len(r.boxes)+len(r.addresses)+len(r.lists) == 0 }

// book is what the addresses lead to.
func (r rows) book() mail.Book {
	b := mail.Book{Domains: r.domains(), Mailboxes: map[string][]string{}, Addresses: map[string][]string{}}
	for _, row := range r.boxes {
		b.Mailboxes[box(row)] = row.Mailbox.ForwardTo
	}
	for _, row := range r.addresses {
		b.Addresses[addressOf(row)] = row.MailAddress.Targets
	}
	for _, row := range r.lists {
		b.Lists = append(b.Lists, listAddress(row))
	}
	return b
}

// taken refuses an address that there is already.
//
// Refusals: NameTaken.
func taken(book mail.Book, address string) error {
	_, isBox := book.Mailboxes[address]
	_, isAddress := book.Addresses[address]
	switch {
	case isBox:
		return refusal.New(refusal.NameTaken, "there is a mailbox %s already", unicode(address)).On("address")
	case isAddress:
		return refusal.New(refusal.NameTaken, "there is an address %s already", unicode(address)).On("address")
	case slices.Contains(book.Lists, address):
		return refusal.New(refusal.NameTaken, "there is a list %s already", unicode(address)).On("address")
	case slices.Contains(book.Lists, mail.ListOfRequest(address)):
		return refusal.New(refusal.NameTaken, "%s leads to the owners of the list %s", unicode(address),
			unicode(mail.ListOfRequest(address))).On("address")
	}
	return nil
}

// mostTargets bounds where one address leads: for more, there are lists.
const mostTargets = 50

// parseTargets reads where an address of a domain is to lead, as people type it. What has no domain
// is of the same one.
//
// Refusals: InvalidInput.
func parseTargets(typed []string, domain names.Domain, book mail.Book) ([]string, error) {
	list := []string{}
	for _, text := range typed {
		if !strings.Contains(text, "@") {
			text = strings.TrimSpace(text) + "@" + domain.String()
		}
		target, err := mail.ParseTarget(text)
		if err != nil {
			return nil, err
		}
		if own := strings.ToLower(target); book.Owns(own) {
			target = own
		}
		if !slices.Contains(list, target) {
			list = append(list, target)
		}
	}
	if len(list) > mostTargets {
		return nil, refusal.Input("targets", "an address leads to %d others at most", mostTargets)
	}
	return list, nil
}

// checkPaths refuses addresses that lead in a circle, or to addresses of the account that are none.
//
// Refusals: InvalidInput.
func (r rows) checkPaths() error {
	book := r.book()
	for _, list := range []map[string][]string{book.Addresses, book.Mailboxes} {
		for address := range list {
			faults := book.Path(address).Faults()
			if len(faults) == 0 {
				continue
			}
			if faults[0].Hop == mail.Loop {
				return refusal.Input("targets", "mail to %s would go round in a circle: it comes to %s again",
					unicode(address), unicode(faults[0].Address))
			}
			return refusal.Input("targets", "%s leads to %s, which is no address; add that one first",
				unicode(address), unicode(faults[0].Address))
		}
	}
	return nil
}

// forget takes an address out of where others lead, as it goes. What would lead nowhere then keeps
// it.
//
// Refusals: InUse.
func (r rows) forget(ctx context.Context, tx store.Tx, a usecase.Actor, address string) error {
	without := func(targets []string) []string {
		return slices.DeleteFunc(slices.Clone(targets), func(t string) bool { return t == address })
	}
	for _, row := range r.addresses {
		targets := without(row.MailAddress.Targets)
		switch {
		case addressOf(row) == address || len(targets) == len(row.MailAddress.Targets):
			continue
		case len(targets) == 0:
			return refusal.New(refusal.InUse, "%s leads to %s alone; change or remove it first",
				unicode(addressOf(row)), unicode(address))
		}
		a.Note("%s no longer leads to %s", unicode(addressOf(row)), unicode(address))
		if err := tx.ChangeMailAddress(ctx, db.ChangeMailAddressParams{ID: row.MailAddress.ID,
			Targets: targets}); err != nil {
			return err
		}
	}
	for _, row := range r.boxes {
		targets := without(row.Mailbox.ForwardTo)
		if box(row) == address || len(targets) == len(row.Mailbox.ForwardTo) {
			continue
		}
		a.Note("%s no longer leads to %s", unicode(box(row)), unicode(address))
		if err := tx.ChangeMailbox(ctx, db.ChangeMailboxParams{ID: row.Mailbox.ID, Hash: row.Mailbox.Hash,
			Size: row.Mailbox.Size, ForwardTo: targets, SendsPerHour: row.Mailbox.SendsPerHour}); err != nil {
			return err
		}
	}
	return r.forgetInLists(ctx, tx, a, address)
}

// forgetInLists takes an address out of lists, as it goes. The only owner of one keeps it.
//
// Refusals: InUse.
func (r rows) forgetInLists(ctx context.Context, tx store.Tx, a usecase.Actor, address string) error {
	for _, row := range r.lists {
		all := r.membersOf(row.MailList.ID)
		at := slices.IndexFunc(all, func(m db.ListMember) bool { return m.Address == address })
		if at < 0 {
			continue
		}
		list := unicode(listAddress(row))
		if all[at].Owner && !slices.ContainsFunc(all, func(m db.ListMember) bool {
			return m.Owner && m.Address != address
		}) {
			return refusal.New(refusal.InUse, "%s alone looks after the list %s; give it another owner first",
				unicode(address), list).Help(refusal.Remedy{Do: language.New("name one"),
				Command: "list change " + listAddress(row) + " --owners ADDRESS"})
		}
		a.Note("%s is no longer on the list %s", unicode(address), list)
		if err := tx.ForgetListMember(ctx, db.ForgetListMemberParams{ListID: row.MailList.ID,
			Address: address}); err != nil {
			return err
		}
	}
	return nil
}

// outcome is what a change has come to.
type outcome struct {
	rows
	st        entitlement.Entitlement
	operation int64
	server    string
}

// change changes the mail of an account, which is locked, and starts the operation that brings it
// about. What fn returns tells of the outcome.
func change[T any](ctx context.Context, s *Service, a usecase.Actor, reference, kind string,
	fn func(store.Tx, entitlement.Entitlement, rows) (func(outcome) T, error)) (T, error) {
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
		out := outcome{st: st}
		if out.rows, err = loadTold(ctx, tx.Queries, number); err != nil {
			return none, err
		}
		if err := out.checkPaths(); err != nil {
			return none, err
		}
		if out.operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account),
			[]int64{number}); err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		if out.server, err = serverName(ctx, tx.Queries, account); err != nil {
			return none, err
		}
		return tell(out), nil
	})
}
