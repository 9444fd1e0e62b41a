package mail

import (
	"context"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// kinds of addresses, as the API names them.
const (
	kindAddress  = "address"
	kindCatchAll = "catch_all"
	kindRole     = "role"
)

func kindOf(local string) string {
	switch {
	case local == mail.CatchAll:
		return kindCatchAll
	case mail.IsRole(local):
		return kindRole
	}
	return kindAddress
}

func viewAddress(row db.MailAddressesOfAccountRow) api.MailAddress {
	added := row.MailAddress.AddedAt
	return api.MailAddress{Address: addressOf(row), Unicode: unicode(addressOf(row)),
		Kind: kindOf(row.MailAddress.Local), Targets: row.MailAddress.Targets, Pointed: true, Domain: row.Domain,
		AddedAt: &added, Version: row.MailAddress.Version}
}

// Addresses returns the addresses of an account beside those of its mailboxes, by domain. The role
// addresses that nobody has pointed anywhere are among them.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Addresses(ctx context.Context, a usecase.Actor, reference string) (api.MailAddressList, error) {
	out := api.MailAddressList{Addresses: []api.MailAddress{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return out, err
	}
	out.Addresses = r.list()
	return out, nil
}

func (r rows) list() []api.MailAddress {
	list := []api.MailAddress{}
	for _, row := range r.addresses {
		list = append(list, viewAddress(row))
	}
	book := r.book()
	for _, domain := range book.Domains {
		for _, role := range mail.Roles {
			address := role + "@" + domain
			if path := book.Path(address); path.Hop == mail.ToRole {
				one := api.MailAddress{Address: address, Unicode: unicode(address), Kind: kindRole, Domain: domain,
					Targets: []string{}, Version: 1}
				for _, next := range path.Next {
					one.Targets = append(one.Targets, next.Address)
				}
				list = append(list, one)
			}
		}
	}
	order := []string{kindAddress, kindCatchAll, kindRole}
	slices.SortStableFunc(list, func(a, b api.MailAddress) int {
		if c := strings.Compare(a.Domain, b.Domain); c != 0 {
			return c
		}
		if c := slices.Index(order, a.Kind) - slices.Index(order, b.Kind); c != 0 {
			return c
		}
		return strings.Compare(a.Address, b.Address)
	})
	return list
}

// findAddress finds an address by itself, or by what goes before the @ if that is clear.
//
// Refusals: InvalidInput, NotFound.
func (r rows) findAddress(typed string) (api.MailAddress, error) {
	local, domain := splitTyped(typed)
	var found []api.MailAddress
	for _, one := range r.list() {
		if before, _, _ := strings.Cut(one.Address, "@"); before == local && (domain == "" || one.Domain == domain) {
			found = append(found, one)
		}
	}
	switch len(found) {
	case 0:
		if slices.ContainsFunc(r.boxes, func(b db.MailboxesOfAccountRow) bool { return box(b) == local+"@"+domain }) {
			return api.MailAddress{}, refusal.New(refusal.NotFound, "%s is a mailbox", unicode(local+"@"+domain)).
				Help(refusal.Remedy{Do: language.New("change it"),
					Command: "mailbox change " + local + "@" + domain + " --forward-to ADDRESS"})
		}
		return api.MailAddress{}, usecase.NotFound("address", typed)
	case 1:
		return found[0], nil
	}
	return api.MailAddress{}, refusal.Input("address", "there is more than one address %s; type the domain, too: %s@%s",
		local, local, usecase.Unicode(found[0].Domain))
}

func (r rows) rowOf(address string) (db.MailAddressesOfAccountRow, bool) {
	at := slices.IndexFunc(r.addresses,
		func(row db.MailAddressesOfAccountRow) bool { return addressOf(row) == address })
	if at < 0 {
		return db.MailAddressesOfAccountRow{}, false
	}
	return r.addresses[at], true
}

// tellAddress tells of an address after a change.
func tellAddress(address string) func(outcome) api.MailAddressChanged {
	return func(out outcome) api.MailAddressChanged {
		told := api.MailAddressChanged{Operation: out.operation, Server: out.server}
		for _, one := range out.list() {
			if one.Address == address {
				told.Address, told.Version = one, one.Version
			}
		}
		return told
	}
}

// AddAddress adds an address that leads to others, or points a role address somewhere. The first
// address or mailbox decides on which server the mail of the account is.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddAddress(ctx context.Context, a usecase.Actor, reference string,
	in api.NewMailAddress) (api.MailAddressChanged, error) {
	return change(ctx, s, a, reference, "address.add",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.MailAddressChanged, error) {
			domains, err := tx.DomainsOfAccount(ctx, st.Account.ID)
			if err != nil {
				return nil, err
			}
			d, domain, err := domainFor(domains, st.Account, in.Address)
			if err != nil {
				return nil, err
			}
			local, corrections, err := mail.ParseLocal(in.Address, domain)
			if err != nil {
				return nil, err
			}
			address := mail.Address{Local: local, Domain: domain}
			book := r.book()
			if err := taken(book, address.String()); err != nil {
				return nil, err
			}
			if !st.Has("mail") {
				return nil, st.MissingFeature("mail", "addresses need the feature mail, which this account does "+
					"not have")
			}
			if !mail.IsRole(local) {
				if err := st.Admit(plans.Addresses, 1); err != nil {
					return nil, err
				}
			}
			book.Domains = append(book.Domains, d.Name)
			targets, err := parseTargets(in.Targets, domain, book)
			if err != nil {
				return nil, err
			}
			if len(targets) == 0 {
				return nil, refusal.Input("targets", "an address leads somewhere; type at least one other address")
			}
			server, err := s.place(ctx, tx, a, st.Account, "")
			if err != nil {
				return nil, err
			}
			if _, err := tx.AddMailAddress(ctx, db.AddMailAddressParams{AccountID: st.Account.ID, DomainID: d.ID,
				Local: local, Targets: targets}); err != nil {
				return nil, err
			}
			for _, c := range corrections {
				a.Note("%s", c)
			}
			a.Summarize("add address %s to account %s", address.Unicode(), st.Account.SignInName)
			if local == mail.CatchAll {
				a.Note("%s gets what is sent to addresses that do not exist, most of which will be spam",
					address.Unicode())
			}
			if err := s.mailBegins(ctx, tx, a, st, server, d); err != nil {
				return nil, err
			}
			return tellAddress(address.String()), usecase.Record(ctx, tx, a, "address.add",
				usecase.AboutAccount(st.Account), nil, map[string]any{"address": address.String(), "targets": targets})
		})
}

// ChangeAddress changes where an address leads; a role address may be pointed so, too.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeAddress(ctx context.Context, a usecase.Actor, reference, typed string, version int64,
	in api.MailAddressChange) (api.MailAddressChanged, error) {
	return change(ctx, s, a, reference, "address.change",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.MailAddressChanged, error) {
			one, err := r.findAddress(typed)
			if err != nil {
				return nil, err
			}
			if err := usecase.CheckVersion(one.Unicode, version, one.Version); err != nil {
				return nil, err
			}
			domain, _, err := names.ParseDomain(one.Domain)
			if err != nil {
				return nil, err
			}
			targets, err := parseTargets(in.Targets, domain, r.book())
			if err != nil {
				return nil, err
			}
			if len(targets) == 0 {
				return nil, refusal.Input("targets", "an address leads somewhere; type at least one other address, or "+
					"remove this one")
			}
			if row, is := r.rowOf(one.Address); is {
				err = tx.ChangeMailAddress(ctx, db.ChangeMailAddressParams{ID: row.MailAddress.ID, Targets: targets})
			} else {
				domains, err := tx.DomainsOfAccount(ctx, st.Account.ID)
				if err != nil {
					return nil, err
				}
				d, _, err := domainFor(domains, st.Account, one.Address)
				if err != nil {
					return nil, err
				}
				local, _, _ := strings.Cut(one.Address, "@")
				if _, err := tx.AddMailAddress(ctx, db.AddMailAddressParams{AccountID: st.Account.ID, DomainID: d.ID,
					Local: local, Targets: targets}); err != nil {
					return nil, err
				}
			}
			if err != nil {
				return nil, err
			}
			a.Summarize("change address %s of account %s", one.Unicode, st.Account.SignInName)
			return tellAddress(one.Address), usecase.Record(ctx, tx, a, "address.change",
				usecase.AboutAccount(st.Account), map[string]any{"address": one.Address, "targets": one.Targets},
				map[string]any{"address": one.Address, "targets": targets})
		})
}

// RemoveAddress removes an address; a role address leads again to where it did at first.
//
// Refusals: ApplyFailed, InUse, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveAddress(ctx context.Context, a usecase.Actor, reference, typed string) (api.Started, error) {
	return change(ctx, s, a, reference, "address.remove",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.Started, error) {
			one, err := r.findAddress(typed)
			if err != nil {
				return nil, err
			}
			row, is := r.rowOf(one.Address)
			if !is {
				return nil, refusal.New(refusal.InUse, "every domain with mail has %s (RFC 2142); it can be pointed "+
					"elsewhere, but not removed", one.Unicode).Help(refusal.Remedy{Do: language.New("point it"),
					Command: "address change " + one.Address + " --to ADDRESS"})
			}
			if one.Kind != kindRole {
				if err := r.forget(ctx, tx, a, one.Address); err != nil {
					return nil, err
				}
			}
			if err := tx.RemoveMailAddress(ctx, row.MailAddress.ID); err != nil {
				return nil, err
			}
			a.Summarize("remove address %s from account %s", one.Unicode, st.Account.SignInName)
			if one.Kind == kindRole {
				a.Note("%s leads again to where it did at first", one.Unicode)
			}
			return func(out outcome) api.Started { return api.Started{Operation: out.operation} },
				usecase.Record(ctx, tx, a, "address.remove", usecase.AboutAccount(st.Account),
					map[string]any{"address": one.Address, "targets": one.Targets}, nil)
		})
}

// MailPath tells what would become of a message to an address.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) MailPath(ctx context.Context, a usecase.Actor, reference, typed string) (api.MailPath, error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return api.MailPath{}, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return api.MailPath{}, err
	}
	address, err := mail.ParseTarget(typed)
	if err != nil {
		return api.MailPath{}, err
	}
	return viewPath(a, r.book().Path(address)), nil
}

// hops say what a hop is.
var hops = map[mail.Hop]language.Text{
	mail.ToMailbox:    language.New("stored in the mailbox"),
	mail.ToOthers:     language.New("leads to"),
	mail.ToCatchAll:   language.New("there is no such address; the catch-all gets it"),
	mail.ToRole:       language.New("nobody has pointed it anywhere, so it leads to"),
	mail.ToWithout:    language.New("what follows the plus is left aside"),
	mail.ToList:       language.New("passed on to the members of the list"),
	mail.ToListOwners: language.New("passed on to the owners of the list"),
	mail.ToOutside:    language.New("passed on to somebody else's server"),
	mail.Nowhere:      language.New("there is no such address: the message is refused"),
	mail.Loop:         language.New("the message has been here before: it goes round in a circle"),
}

func viewPath(a usecase.Actor, p mail.Path) api.MailPath {
	says := hops[p.Hop]
	if p.Hop == mail.ToMailbox && len(p.Next) > 0 {
		says = language.New("stored in the mailbox, and passed on to")
	}
	view := api.MailPath{Address: p.Address, Unicode: unicode(p.Address), Hop: string(p.Hop),
		Says: says.In(a.Language), Next: []api.MailPath{}}
	for _, next := range p.Next {
		view.Next = append(view.Next, viewPath(a, next))
	}
	return view
}
