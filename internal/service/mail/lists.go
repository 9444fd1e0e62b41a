package mail

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// leavePath is where members leave lists by a click; the list and a code come behind it.
const leavePath = "/leave/"

// membersOf are the members of a list, and its owners.
func (r rows) membersOf(list int64) []db.ListMember {
	var found []db.ListMember
	for _, m := range r.members {
		if m.ListID == list {
			found = append(found, m)
		}
	}
	return found
}

func (r rows) viewList(row db.MailListsOfAccountRow) api.DistributionList {
	l, address := row.MailList, listAddress(row)
	view := api.DistributionList{Address: address, Unicode: unicode(address),
		OwnersAddress: unicode(mail.RequestAddress(address)),
		Name:          l.Name, Posting: l.Posting, Moderated: l.Moderated, Footer: l.Footer, Owners: []string{},
		Domain: row.Domain, AddedAt: l.AddedAt, Version: l.Version}
	for _, m := range r.membersOf(l.ID) {
		if m.Member {
			view.Members++
		}
		if m.Owner {
			view.Owners = append(view.Owners, m.Address)
		}
	}
	return view
}

// listToTell is a list as its server is told of it.
func (r rows) listToTell(row db.MailListsOfAccountRow) manifest.MailList {
	l := row.MailList
	told := manifest.MailList{Address: listAddress(row), Name: l.Name, Posting: mail.Posting(l.Posting),
		Moderated: l.Moderated, Footer: l.Footer}
	for _, m := range r.membersOf(l.ID) {
		told.Members = append(told.Members, manifest.ListMember{Address: m.Address, Member: m.Member, Owner: m.Owner,
			Joined: m.JoinedAt.Unix()})
	}
	return told
}

// Lists returns the lists of an account.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Lists(ctx context.Context, a usecase.Actor, reference string) (api.DistributionLists, error) {
	out := api.DistributionLists{Lists: []api.DistributionList{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	for _, row := range r.lists {
		out.Lists = append(out.Lists, r.viewList(row))
	}
	return out, err
}

// findList finds a list by its address, or by what goes before the @ if that is clear.
//
// Refusals: InvalidInput, NotFound.
func (r rows) findList(typed string) (db.MailListsOfAccountRow, error) {
	local, domain := splitTyped(typed)
	var found []db.MailListsOfAccountRow
	for _, row := range r.lists {
		if row.MailList.Local == local && (domain == "" || row.Domain == domain) {
			found = append(found, row)
		}
	}
	switch len(found) {
	case 0:
		return db.MailListsOfAccountRow{}, usecase.NotFound("list", typed)
	case 1:
		return found[0], nil
	}
	return found[0], refusal.Input("list", "there is more than one list %s; type the domain, too: %s@%s", local, local,
		usecase.Unicode(found[0].Domain))
}

// tellList tells of a list after a change.
func tellList(list int64) func(outcome) api.DistributionListChanged {
	return func(out outcome) api.DistributionListChanged {
		told := api.DistributionListChanged{Operation: out.operation, Server: out.server}
		for _, row := range out.lists {
			if row.MailList.ID == list {
				told.List, told.Version = out.viewList(row), row.MailList.Version
			}
		}
		return told
	}
}

// parseMembers reads addresses of members or owners of a list, as people type them. What has no
// domain is of the list's.
//
// Refusals: InvalidInput.
func parseMembers(field string, typed []string, list mail.Address, book mail.Book) ([]string, error) {
	found := []string{}
	seen := map[string]bool{}
	for _, text := range typed {
		if !strings.Contains(text, "@") {
			text = strings.TrimSpace(text) + "@" + list.Domain.String()
		}
		member, err := mail.ParseTarget(text)
		if err != nil {
			return nil, refusal.Input(field, "%s is no mail address; write it with its domain, such as "+
				"anna@harbourmail.test", text)
		}
		own := strings.ToLower(member)
		if book.Owns(own) {
			member = own
			if hop := book.Path(own).Hop; hop == mail.Nowhere {
				return nil, refusal.Input(field, "%s is no address of this account; add that one first", unicode(own))
			}
		}
		if own == list.String() || own == mail.RequestAddress(list.String()) {
			return nil, refusal.Input(field, "a list cannot be its own member")
		}
		if !seen[own] {
			seen[own] = true
			found = append(found, member)
		}
	}
	return found, nil
}

// checkList refuses what a list cannot be.
//
// Refusals: InvalidInput.
func checkList(l db.MailList) error {
	switch {
	case utf8.RuneCountInString(l.Name) > mail.LongestListName || strings.ContainsFunc(l.Name, isControl):
		return refusal.Input("name", "the name of a list is one line of %d characters at most", mail.LongestListName)
	case utf8.RuneCountInString(l.Footer) > mail.LongestFooter:
		return refusal.Input("footer", "a footer has %d characters at most", mail.LongestFooter)
	case strings.ContainsRune(l.Footer, 0):
		return refusal.Input("footer", "a footer is text")
	}
	return nil
}

func isControl(r rune) bool { return r < ' ' || r == 0x7f }

// AddList adds a list. The first address, list or mailbox decides on which server the mail of the
// account is.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddList(ctx context.Context, a usecase.Actor, reference string, in api.NewDistributionList) (
	api.DistributionListChanged, error) {
	return change(ctx, s, a, reference, "list.add",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.DistributionListChanged, error) {
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
			if local == mail.CatchAll || mail.IsRole(local) || mail.ListOfRequest(address.String()) != "" {
				return nil, refusal.Input("address", "%s cannot be a list; choose another name", address.Unicode())
			}
			if len(local) > longestListLocal {
				return nil, refusal.Input("address", "%s is too long for a list: %d characters at most", local,
					longestListLocal)
			}
			book := r.book()
			for _, one := range []string{address.String(), mail.RequestAddress(address.String())} {
				if err := taken(book, one); err != nil {
					return nil, err
				}
			}
			if !st.Has("mail") {
				return nil, st.MissingFeature("mail", "lists need the feature mail, which this account does not have")
			}
			if err := st.Admit(plans.Lists, 1); err != nil {
				return nil, err
			}
			row := db.MailList{Name: strings.TrimSpace(in.Name), Posting: in.Posting, Footer: in.Footer}
			if row.Posting == "" {
				row.Posting = string(mail.MembersPost)
			}
			if err := checkList(row); err != nil {
				return nil, err
			}
			if !slices.Contains(book.Domains, d.Name) {
				book.Domains = append(book.Domains, d.Name)
			}
			owners, err := parseMembers("owners", in.Owners, address, book)
			if err != nil {
				return nil, err
			}
			if len(owners) == 0 {
				return nil, refusal.Input("owners", "somebody looks after a list; type at least one address")
			}
			members, err := parseMembers("members", in.Members, address, book)
			if err != nil {
				return nil, err
			}
			server, err := s.place(ctx, tx, a, st.Account, "")
			if err != nil {
				return nil, err
			}
			added, err := tx.AddMailList(ctx, db.AddMailListParams{AccountID: st.Account.ID, DomainID: d.ID,
				Local: local, Name: row.Name, Posting: row.Posting, Moderated: in.Moderated, Footer: row.Footer})
			if err != nil {
				return nil, err
			}
			if err := tx.SetListMembers(ctx, db.SetListMembersParams{ListID: added.ID, Owner: true,
				Addresses: owners}); err != nil {
				return nil, err
			}
			if err := tx.SetListMembers(ctx, db.SetListMembersParams{ListID: added.ID, Member: true,
				Addresses: members}); err != nil {
				return nil, err
			}
			for _, c := range corrections {
				a.Note("%s", c)
			}
			a.Summarize("add list %s to account %s", address.Unicode(), st.Account.SignInName)
			noteMembers(a, st, book, members)
			if err := s.mailBegins(ctx, tx, a, st, server, d); err != nil {
				return nil, err
			}
			return tellList(added.ID), usecase.Record(ctx, tx, a, "list.add", usecase.AboutAccount(st.Account), nil,
				map[string]any{"list": address.String(), "owners": owners, "members": len(members)})
		})
}

// longestListLocal leaves room for the address of the owners.
const longestListLocal = 56

// noteMembers says that a list has more members elsewhere than its account may send to.
func noteMembers(a usecase.Actor, st entitlement.Entitlement, book mail.Book, members []string) {
	outside := int64(0)
	for _, m := range members {
		if !book.Owns(strings.ToLower(m)) {
			outside++
		}
	}
	if most := st.ServerLimits().SendsPerHour; !most.Unlimited && outside > most.N {
		a.Note("%d of the members are elsewhere, and %s may send to %d recipients within an hour: messages to this "+
			"list are refused until that is more", outside, st.Account.SignInName, most.N)
	}
}

// ChangeList changes a list: what it is called, who looks after it, who may send to it, its footer.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeList(ctx context.Context, a usecase.Actor, reference, typed string, version int64,
	in api.DistributionListChange) (api.DistributionListChanged, error) {
	return change(ctx, s, a, reference, "list.change",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.DistributionListChanged, error) {
			row, err := r.findList(typed)
			if err != nil {
				return nil, err
			}
			l := row.MailList
			if err := usecase.CheckVersion(unicode(listAddress(row)), version, l.Version); err != nil {
				return nil, err
			}
			before := listWords(r.viewList(row))
			set := func(to *string, from *string) {
				if from != nil {
					*to = strings.TrimSpace(*from)
				}
			}
			set(&l.Name, in.Name)
			set(&l.Posting, in.Posting)
			set(&l.Footer, in.Footer)
			if in.Moderated != nil {
				l.Moderated = *in.Moderated
			}
			if err := checkList(l); err != nil {
				return nil, err
			}
			if err := tx.ChangeMailList(ctx, db.ChangeMailListParams{ID: l.ID, Name: l.Name, Posting: l.Posting,
				Moderated: l.Moderated, Footer: l.Footer}); err != nil {
				return nil, err
			}
			after := listWords(api.DistributionList{Address: listAddress(row), Name: l.Name, Posting: l.Posting,
				Moderated: l.Moderated, Footer: l.Footer, Owners: r.viewList(row).Owners})
			if in.Owners != nil {
				owners, err := r.setOwners(ctx, tx, row, *in.Owners)
				if err != nil {
					return nil, err
				}
				after["owners"] = owners
			}
			a.Summarize("change list %s of account %s", unicode(listAddress(row)), st.Account.SignInName)
			return tellList(l.ID), usecase.Record(ctx, tx, a, "list.change", usecase.AboutAccount(st.Account), before,
				after)
		})
}

// setOwners replaces who looks after a list.
//
// Refusals: InvalidInput.
func (r rows) setOwners(ctx context.Context, tx store.Tx, row db.MailListsOfAccountRow, typed []string) ([]string,
	error) {
	address, err := addressOfList(row)
	if err != nil {
		return nil, err
	}
	owners, err := parseMembers("owners", typed, address, r.book())
	if err != nil {
		return nil, err
	}
	if len(owners) == 0 {
		return nil, refusal.Input("owners", "somebody looks after a list; type at least one address")
	}
	if err := tx.RemoveMereOwners(ctx, row.MailList.ID); err != nil {
		return nil, err
	}
	if err := tx.EndOwnershipOfMembers(ctx, row.MailList.ID); err != nil {
		return nil, err
	}
	return owners, tx.SetListMembers(ctx, db.SetListMembersParams{ListID: row.MailList.ID, Owner: true,
		Addresses: owners})
}

func addressOfList(row db.MailListsOfAccountRow) (mail.Address, error) {
	domain, _, err := names.ParseDomain(row.Domain)
	return mail.Address{Local: row.MailList.Local, Domain: domain}, err
}

// listWords are what is recorded of a list.
func listWords(l api.DistributionList) map[string]any {
	return map[string]any{"list": l.Address, "name": l.Name, "posting": l.Posting, "moderated": l.Moderated,
		"footer": l.Footer, "owners": l.Owners}
}

// RemoveList removes a list.
//
// Refusals: ApplyFailed, InUse, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveList(ctx context.Context, a usecase.Actor, reference, typed string) (api.Started, error) {
	return change(ctx, s, a, reference, "list.remove",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.Started, error) {
			row, err := r.findList(typed)
			if err != nil {
				return nil, err
			}
			address := listAddress(row)
			for _, one := range []string{address, mail.RequestAddress(address)} {
				if err := r.forget(ctx, tx, a, one); err != nil {
					return nil, err
				}
			}
			if err := tx.RemoveMailList(ctx, row.MailList.ID); err != nil {
				return nil, err
			}
			a.Summarize("remove list %s from account %s", unicode(address), st.Account.SignInName)
			view := r.viewList(row)
			a.Note("%s, and messages that wait for its owners are dropped", usecase.Counted(int(view.Members),
				"member"))
			before := listWords(view)
			before["members"] = view.Members
			return tellOperation, usecase.Record(ctx, tx, a, "list.remove", usecase.AboutAccount(st.Account), before,
				nil)
		})
}

// ListMembers returns the members of a list.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) ListMembers(ctx context.Context, a usecase.Actor, reference, typed string) (api.ListMembers, error) {
	out := api.ListMembers{Members: []api.ListMember{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return out, err
	}
	row, err := r.findList(typed)
	if err != nil {
		return out, err
	}
	for _, m := range r.membersOf(row.MailList.ID) {
		if m.Member {
			out.Members = append(out.Members, api.ListMember{Address: m.Address, JoinedAt: m.JoinedAt})
		}
	}
	return out, nil
}

// ChangeListMembers adds members to a list and takes others out of it, all of them or none.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeListMembers(ctx context.Context, a usecase.Actor, reference, typed string,
	in api.ListMemberChange) (api.ListMembersChanged, error) {
	return change(ctx, s, a, reference, "list.members",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.ListMembersChanged, error) {
			row, err := r.findList(typed)
			if err != nil {
				return nil, err
			}
			address, err := addressOfList(row)
			if err != nil {
				return nil, err
			}
			book := r.book()
			add, err := parseMembers("add", in.Add, address, book)
			if err != nil {
				return nil, err
			}
			done := api.ListMembersChanged{}
			remove := r.membersNamed(row.MailList.ID, in.Remove, address.Domain)
			if done.Removed, err = endMembership(ctx, tx, row.MailList.ID, remove); err != nil {
				return nil, err
			}
			before := map[string]bool{}
			for _, m := range r.membersOf(row.MailList.ID) {
				if m.Member && !slices.Contains(remove, m.Address) {
					before[strings.ToLower(m.Address)] = true
				}
			}
			add = slices.DeleteFunc(add, func(one string) bool { return before[strings.ToLower(one)] })
			done.Added, done.Members = len(add), len(before)+len(add)
			if done.Added+done.Removed == 0 {
				return nil, refusal.Input("add", "nothing changes: nobody of these is to be added or removed")
			}
			if done.Members > mail.MostMembers {
				return nil, refusal.New(refusal.LimitReached, "a list has %d members at most",
					mail.MostMembers).On("add")
			}
			if err := tx.SetListMembers(ctx, db.SetListMembersParams{ListID: row.MailList.ID, Member: true,
				Addresses: add}); err != nil {
				return nil, err
			}
			a.Summarize("list %s of account %s: add %d, remove %d", address.Unicode(), st.Account.SignInName,
				done.Added, done.Removed)
			noteMembers(a, st, book, append(slices.Collect(maps.Keys(before)), add...))
			return func(out outcome) api.ListMembersChanged {
					done.Operation = out.operation
					return done
				}, usecase.Record(ctx, tx, a, "list.members", usecase.AboutAccount(st.Account),
					membersWords(address.String(), remove), membersWords(address.String(), add))
		})
}

// membersWords are what is recorded of members that came or went.
func membersWords(list string, members []string) map[string]any {
	if len(members) == 0 {
		return nil
	}
	return map[string]any{"list": list, "members": members}
}

// membersNamed are those of a list's members who are named, as people type them.
func (r rows) membersNamed(list int64, typed []string, domain names.Domain) []string {
	named := map[string]bool{}
	for _, text := range typed {
		if text = strings.ToLower(strings.TrimSpace(text)); !strings.Contains(text, "@") {
			text += "@" + domain.String()
		}
		named[text] = true
	}
	var found []string
	for _, m := range r.membersOf(list) {
		if m.Member && (named[strings.ToLower(m.Address)] || named[strings.ToLower(unicode(m.Address))]) {
			found = append(found, m.Address)
		}
	}
	return found
}

func endMembership(ctx context.Context, tx store.Tx, list int64, members []string) (int, error) {
	ended, err := tx.EndMembershipOfOwners(ctx, db.EndMembershipOfOwnersParams{ListID: list, Addresses: members})
	if err != nil {
		return 0, err
	}
	gone, err := tx.RemoveListMembers(ctx, db.RemoveListMembersParams{ListID: list, Addresses: members})
	return int(ended + gone), err
}

// HeldPosts returns the messages to a list that wait for an owner.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable.
func (s *Service) HeldPosts(ctx context.Context, a usecase.Actor, reference, typed string) (api.HeldPosts, error) {
	out := api.HeldPosts{Posts: []api.HeldPost{}}
	at, err := s.whereList(ctx, a, reference, typed)
	if err != nil {
		return out, err
	}
	told, err := s.Agents.Agent(at.server.ID, at.server.Address).ListPosts(ctx, agentlink.ListPosts{List: at.list})
	if err != nil {
		return out, usecase.Unreachable(at.server.Label, err)
	}
	for _, p := range told.Posts {
		out.Posts = append(out.Posts, api.HeldPost{Post: p.Name, From: p.From, Subject: p.Subject, Size: p.Size,
			CameAt: p.At})
	}
	return out, nil
}

// listPlace is a list with the server that its mail is on.
type listPlace struct {
	account db.Account
	server  db.Server
	list    string
}

func (s *Service) whereList(ctx context.Context, a usecase.Actor, reference, typed string) (at listPlace, err error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return at, err
	}
	r, err := loadRows(ctx, s.Store.Queries, number)
	if err != nil {
		return at, err
	}
	row, err := r.findList(typed)
	if err != nil {
		return at, err
	}
	at.list = listAddress(row)
	if at.account, err = s.Store.Account(ctx, number); err != nil {
		return at, err
	}
	at.server, err = s.Store.ServerByID(ctx, *at.account.MailServerID)
	return at, err
}

// ChangeHeldPost sends a message to its list on that waits for an owner, or drops it.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable.
func (s *Service) ChangeHeldPost(ctx context.Context, a usecase.Actor, reference, typed, post string,
	in api.HeldPostChange) (api.HeldPostChanged, error) {
	at, err := s.whereList(ctx, a, reference, typed)
	if err != nil {
		return api.HeldPostChanged{}, err
	}
	agent := s.Agents.Agent(at.server.ID, at.server.Address)
	waiting, err := agent.ListPosts(ctx, agentlink.ListPosts{List: at.list})
	if err != nil {
		return api.HeldPostChanged{}, usecase.Unreachable(at.server.Label, err)
	}
	found := slices.IndexFunc(waiting.Posts, func(p mail.HeldPost) bool { return p.Name == post })
	gone := refusal.New(refusal.NotFound, "no such message to %s waits any more", unicode(at.list)).
		Help(refusal.Remedy{Do: language.New("see which do"), Command: "list held " + at.list})
	if found < 0 {
		return api.HeldPostChanged{}, gone
	}
	one := waiting.Posts[found]
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.HeldPostChanged, error) {
		out := api.HeldPostChanged{Post: post, List: at.list}
		if in.Do == agentlink.DropPost {
			a.Summarize("drop the message of %s to list %s", one.From, unicode(at.list))
		} else {
			a.Summarize("send the message of %s on to list %s", one.From, unicode(at.list))
		}
		if err := usecase.Record(ctx, tx, a, "list."+in.Do, usecase.AboutAccount(at.account), nil,
			map[string]any{"list": at.list, "from": one.From, "subject": one.Subject}); err != nil {
			return out, err
		}
		if a.Preview != nil {
			return out, nil
		}
		told, err := agent.ListPosts(ctx, agentlink.ListPosts{List: at.list, Do: in.Do, Post: post})
		if err != nil {
			return out, usecase.Unreachable(at.server.Label, err)
		}
		if told.Gone {
			return out, gone
		}
		return out, nil
	})
}

// LeaveList takes the member out of a list whom a code is of, which the member alone was told.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable.
// Locks: the account.
func (s *Service) LeaveList(ctx context.Context, list, code string) (api.ListLeft, error) {
	none := refusal.New(refusal.NotFound, "this leads to no list any more, or its member has left it already")
	local, domain := splitTyped(list)
	found, err := s.Store.MailListAt(ctx, db.MailListAtParams{Local: local, Domain: domain})
	if store.None(err) {
		return api.ListLeft{}, none
	}
	if err != nil {
		return api.ListLeft{}, err
	}
	left := api.ListLeft{List: found.Name}
	if left.List == "" {
		left.List = unicode(local + "@" + domain)
	}
	gone, err := s.leave(ctx, found.AccountID, []string{code})
	if err == nil && gone == 0 {
		return api.ListLeft{}, none
	}
	return left, err
}

// syncLeaves takes members out of lists who have left them by a message.
func (s *Service) syncLeaves(ctx context.Context, leaves []agentlink.ListLeave) error {
	codes := map[int64][]string{}
	for _, one := range leaves {
		codes[one.Account] = append(codes[one.Account], one.Code)
	}
	for account, list := range codes {
		if _, err := s.leave(ctx, account, list); err != nil {
			return fmt.Errorf("members of lists of account %d who have left: %w", account, err)
		}
	}
	return nil
}

// leave takes the members out of an account's lists whom codes are of, and says how many there
// were.
func (s *Service) leave(ctx context.Context, number int64, codes []string) (gone int, err error) {
	key, err := s.returnKey(ctx, s.Store.Queries)
	if err != nil {
		return 0, err
	}
	if leaving, err := s.leaving(ctx, s.Store.Queries, key, number, codes); err != nil || len(leaving) == 0 {
		return 0, err
	}
	a := usecase.System()
	return gone, s.Store.InTx(ctx, func(tx store.Tx) error {
		account, err := usecase.LockAccount(ctx, tx, number)
		if err != nil {
			return err
		}
		leaving, err := s.leaving(ctx, tx.Queries, key, number, codes)
		if err != nil || len(leaving) == 0 {
			return err
		}
		for list, members := range leaving {
			ended, err := endMembership(ctx, tx, list.MailList.ID, members)
			if err != nil {
				return err
			}
			gone += ended
			if err := usecase.Record(ctx, tx, a, "list.leave", usecase.AboutAccount(account),
				map[string]any{"list": listAddress(*list), "members": members}, nil); err != nil {
				return err
			}
		}
		_, err = s.rollout.ApplyAccounts(ctx, tx, a, "list.leave", usecase.AboutAccount(account), []int64{number})
		return err
	})
}

// leaving are the members whom codes are of, by list.
func (s *Service) leaving(ctx context.Context, q *db.Queries, key []byte, number int64, codes []string) (
	map[*db.MailListsOfAccountRow][]string, error) {
	r, err := loadRows(ctx, q, number)
	if err != nil {
		return nil, err
	}
	found := map[*db.MailListsOfAccountRow][]string{}
	for n := range r.lists {
		row := &r.lists[n]
		for _, m := range r.membersOf(row.MailList.ID) {
			if m.Member && slices.Contains(codes, mail.LeaveCode(key, listAddress(*row), m.Address,
				m.JoinedAt.Unix())) {
				found[row] = append(found[row], m.Address)
			}
		}
	}
	return found, nil
}
