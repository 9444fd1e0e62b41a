package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// CheckSignIn refuses a sign-in name that cannot be used.
func (s *Service) CheckSignIn(ctx context.Context, name string) error {
	if err := names.CheckSignIn(name); err != nil {
		return err
	}
	taken, err := s.store.TakenSignInNames(ctx, name)
	if err == nil && slices.Contains(taken, name) {
		err = signInTaken(name)
	}
	return err
}

func signInTaken(name string) error {
	return refusal.New(refusal.NameTaken, "the sign-in name %q is in use; choose another", name).On("sign_in_name")
}

func proposeSignIn(ctx context.Context, q *db.Queries, domain names.Domain) (string, error) {
	stem := names.ProposeSignIn(domain, func(string) bool { return false })
	// Numbers are put behind a stem cut short, so ask by the part that always stays.
	taken, err := q.TakenSignInNames(ctx, stem[:min(len(stem), names.MaxSignIn-6)])
	if err != nil {
		return "", err
	}
	return names.ProposeSignIn(domain, func(name string) bool { return slices.Contains(taken, name) }), nil
}

// OpenAccount opens an account: everything is decided and written down now,
// and made on the server by the operation.
func (s *Service) OpenAccount(ctx context.Context, a Actor, in api.OpenAccount) (api.Opening, error) {
	domain, corrections, err := names.ParseDomain(in.Domain)
	if err != nil {
		return api.Opening{}, err
	}
	server, reason, err := s.placeUnlessRepeated(ctx, a, in.Server)
	if err != nil {
		return api.Opening{}, err
	}
	return change(ctx, s, a, func(tx store.Tx) (api.Opening, error) {
		account, err := s.openIn(ctx, tx, a, in, domain, server, reason)
		if err != nil {
			return api.Opening{}, err
		}
		operation, err := addOperation(ctx, tx, a, db.AddOperationParams{Kind: "account.open", Subject: domain.Unicode(), AccountID: &account.ID,
			ServerID: &account.ServerID, Revision: &account.Revision})
		if err != nil {
			return api.Opening{}, err
		}
		if err := s.queue.Apply(ctx, tx, account.ID); err != nil {
			return api.Opening{}, err
		}
		view, err := accountByID(ctx, tx.Queries, account.ID)
		return api.Opening{Account: view, Operation: operation, Corrections: nonNil(corrections), Placement: reason}, err
	})
}

// placeUnlessRepeated chooses the server, except for a request that had its
// answer before: that one must get it again, whatever has become of the servers.
func (s *Service) placeUnlessRepeated(ctx context.Context, a Actor, label string) (db.Server, string, error) {
	if a.IdempotencyKey != "" {
		_, err := s.store.IdempotentAnswer(ctx, db.IdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey})
		if err == nil {
			return db.Server{}, "", nil
		}
		if !store.None(err) {
			return db.Server{}, "", err
		}
	}
	server, choice, err := s.place(ctx, label)
	return server, choice.Reason, err
}

// PreviewOpen tells what OpenAccount would do, and does nothing.
func (s *Service) PreviewOpen(ctx context.Context, a Actor, in api.OpenAccount) (api.Preview, error) {
	domain, corrections, err := names.ParseDomain(in.Domain)
	if err != nil {
		return api.Preview{}, err
	}
	server, choice, err := s.place(ctx, in.Server)
	if err != nil {
		return api.Preview{}, err
	}
	var m manifest.Manifest
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		account, err := s.openIn(ctx, tx, a, in, domain, server, choice.Reason)
		if err != nil {
			return err
		}
		if m, err = buildManifest(ctx, tx.Queries, account); err != nil {
			return err
		}
		return errPreview // rolls everything back
	})
	if !errors.Is(err, errPreview) {
		return api.Preview{}, err
	}
	notes := append(nonNil(corrections), choice.Reason)
	return s.preview(ctx, server, m, fmt.Sprintf("open account %s for %s on %s", m.SignInName, domain.Unicode(), server.Label), notes)
}

func (s *Service) preview(ctx context.Context, server db.Server, m manifest.Manifest, summary string, notes []string) (api.Preview, error) {
	ask, cancel := context.WithTimeout(ctx, 2*askTimeout)
	defer cancel()
	p, err := s.agents.Agent(server.ID, server.Address).Preview(ask, m)
	if err != nil {
		return api.Preview{}, unreachable(server.Label, err)
	}
	out := api.Preview{Summary: summary, Notes: notes, Steps: p.Steps, Changes: []api.Change{}}
	for _, c := range p.Changes {
		out.Changes = append(out.Changes, api.Change(c))
	}
	return out, nil
}

func unreachable(label string, err error) error {
	if errors.Is(err, agentlink.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded) {
		return refusal.New(refusal.ServerUnreachable, "the agent on %s does not answer; nothing was done. Look at the server, or try again later", label)
	}
	return refusal.New(refusal.ApplyFailed, "%s: %s", label, err)
}

// openIn checks and writes the rows of a new account.
func (s *Service) openIn(ctx context.Context, tx store.Tx, a Actor, in api.OpenAccount, domain names.Domain, server db.Server, reason string) (db.Account, error) {
	none := db.Account{}
	if err := tx.LockDomain(ctx, domain.Registrable()); err != nil {
		return none, err
	}
	if err := domainFree(ctx, tx.Queries, domain, 0); err != nil {
		return none, err
	}
	planRow, err := tx.PlanByName(ctx, in.Plan)
	if store.None(err) {
		return none, refusal.New(refusal.NotFound, "there is no plan %q; see the list of plans", in.Plan).On("plan")
	}
	if err != nil {
		return none, err
	}
	plan, err := loadPlan(ctx, tx.Queries, planRow.ID, planRow.Name)
	if err != nil {
		return none, err
	}
	allowance := plans.AllowanceOf(plan)
	if err := errors.Join(allowance.Admit(plans.Domains, 0, 1), allowance.Admit(plans.Disk, 0, starterSize)); err != nil {
		return none, err
	}
	customer, err := customerFor(ctx, tx, a, in)
	if err != nil {
		return none, err
	}
	name := in.SignInName
	if name == "" {
		// Proposals wait for each other, so that two requests do not get the same.
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(2)"); err != nil {
			return none, err
		}
		if name, err = proposeSignIn(ctx, tx.Queries, domain); err != nil {
			return none, err
		}
	} else if err := names.CheckSignIn(name); err != nil {
		return none, err
	}
	account, err := tx.AddAccount(ctx, db.AddAccountParams{SignInName: name, MainDomain: domain.String(), CustomerID: customer,
		PlanID: planRow.ID, ServerID: server.ID, Placement: reason})
	if store.Violated(err) == "accounts_sign_in_name" {
		return none, signInTaken(name)
	}
	if err != nil {
		return none, err
	}
	if _, err := tx.AddDomain(ctx, db.AddDomainParams{AccountID: account.ID, Name: domain.String(), Registrable: domain.Registrable(),
		Main: true, Root: manifest.RootFor(domain)}); err != nil {
		return none, err
	}
	return account, record(ctx, tx, a, "account.open", subjectOf(account), nil, map[string]string{"domain": domain.String(), "sign_in_name": name,
		"customer": in.Customer, "plan": plan.Name, "server": server.Label})
}

// starterSize is the disk space without which not even an empty site can be.
const starterSize = plans.MiB

func customerFor(ctx context.Context, tx store.Tx, a Actor, in api.OpenAccount) (int64, error) {
	if in.NewCustomer {
		c, err := addCustomer(ctx, tx, a, api.NewCustomer{Name: in.Customer, Email: in.CustomerEmail})
		if r := refusal.As(err); r != nil && len(r.Fields) == 1 {
			return 0, r.On(map[string]string{"name": "customer", "email": "customer_email"}[r.Fields[0].Name])
		}
		return c.ID, err
	}
	row, err := tx.CustomerByName(ctx, strings.TrimSpace(in.Customer))
	if store.None(err) {
		return 0, refusal.New(refusal.NotFound, "there is no customer %q; check the name, or add the customer with the account", in.Customer).On("customer")
	}
	return row.ID, err
}

// CloseAccount closes an account. Confirm must be its sign-in name.
func (s *Service) CloseAccount(ctx context.Context, a Actor, reference, confirm string) (api.Started, error) {
	return s.startApply(ctx, a, reference, "account.close", func(tx store.Tx, account db.Account) (db.Account, error) {
		if err := mayClose(account, confirm); err != nil {
			return account, err
		}
		return tx.WantAccount(ctx, db.WantAccountParams{ID: account.ID, State: "closing"})
	})
}

func mayClose(account db.Account, confirm string) error {
	if confirm != account.SignInName {
		return refusal.Input("sign_in_name", "type the account's sign-in name, %s, to close it", account.SignInName)
	}
	if account.State == "closing" || account.State == "closed" {
		return refusal.New(refusal.WrongState, "%s is %s already", account.SignInName, account.State)
	}
	return nil
}

// PreviewClose tells what CloseAccount would do, and does nothing.
func (s *Service) PreviewClose(ctx context.Context, reference, confirm string) (api.Preview, error) {
	account, err := s.accountRow(ctx, reference)
	if err != nil {
		return api.Preview{}, err
	}
	if err := mayClose(account, confirm); err != nil {
		return api.Preview{}, err
	}
	domains, err := s.store.DomainsOfAccount(ctx, account.ID)
	if err != nil {
		return api.Preview{}, err
	}
	var gone []string
	for _, d := range domains {
		gone = append(gone, d.Name)
	}
	used := "an unknown amount of"
	if account.DiskUsed != nil {
		used = plans.FormatSize(*account.DiskUsed)
	}
	account.State, account.Revision = "closing", account.Revision+1
	return s.previewOf(ctx, account, "close account %s on %s", []string{"no longer served: " + strings.Join(gone, ", "),
		"deleted for good: " + used + " data in /home/" + account.SignInName})
}

// previewOf asks what an account's server would do to match a row. Summary has
// places for the sign-in name and the server.
func (s *Service) previewOf(ctx context.Context, account db.Account, summary string, notes []string) (api.Preview, error) {
	server, err := s.store.ServerByID(ctx, account.ServerID)
	if err != nil {
		return api.Preview{}, err
	}
	m, err := buildManifest(ctx, s.store.Queries, account)
	if err != nil {
		return api.Preview{}, err
	}
	return s.preview(ctx, server, m, fmt.Sprintf(summary, account.SignInName, server.Label), notes)
}

// RepairAccount has the account's manifest applied again.
func (s *Service) RepairAccount(ctx context.Context, a Actor, reference string) (api.Started, error) {
	return s.startApply(ctx, a, reference, "account.repair", func(_ store.Tx, account db.Account) (db.Account, error) {
		return account, mayRepair(account)
	})
}

func mayRepair(account db.Account) error {
	if account.State == "closed" {
		return refusal.New(refusal.WrongState, "%s is closed; there is nothing to repair", account.SignInName)
	}
	return nil
}

// PreviewRepair tells what RepairAccount would do, and does nothing.
func (s *Service) PreviewRepair(ctx context.Context, reference string) (api.Preview, error) {
	account, err := s.accountRow(ctx, reference)
	if err != nil {
		return api.Preview{}, err
	}
	if err := mayRepair(account); err != nil {
		return api.Preview{}, err
	}
	return s.previewOf(ctx, account, "repair account %s on %s", []string{})
}

// startApply changes an account and starts the operation that brings it about.
func (s *Service) startApply(ctx context.Context, a Actor, reference, kind string, fn func(store.Tx, db.Account) (db.Account, error)) (api.Started, error) {
	id, err := s.findAccount(ctx, reference)
	if err != nil {
		return api.Started{}, err
	}
	return change(ctx, s, a, func(tx store.Tx) (api.Started, error) {
		before, err := tx.LockAccount(ctx, id)
		if err != nil {
			return api.Started{}, err
		}
		after, err := fn(tx, before)
		if err != nil {
			return api.Started{}, err
		}
		domain, _, err := names.ParseDomain(after.MainDomain)
		if err != nil {
			return api.Started{}, err
		}
		operation, err := addOperation(ctx, tx, a, db.AddOperationParams{Kind: kind, Subject: domain.Unicode(), AccountID: &id,
			ServerID: &after.ServerID, Revision: &after.Revision})
		if err != nil {
			return api.Started{}, err
		}
		if err := s.queue.Apply(ctx, tx, id); err != nil {
			return api.Started{}, err
		}
		return api.Started{Operation: operation}, record(ctx, tx, a, kind, subjectOf(after),
			map[string]string{"state": before.State}, map[string]string{"state": after.State})
	})
}

// findAccount returns the number of the account with that number, sign-in name or domain.
func (s *Service) findAccount(ctx context.Context, reference string) (int64, error) {
	id, err := s.store.FindAccount(ctx, strings.ToLower(strings.TrimSpace(reference)))
	if store.None(err) {
		if domain, _, parseErr := names.ParseDomain(reference); parseErr == nil && domain.String() != reference {
			id, err = s.store.FindAccount(ctx, domain.String())
		}
	}
	if store.None(err) {
		return 0, notFound("account", reference)
	}
	return id, err
}

// accountRow returns the row of the account with that number, sign-in name or domain.
func (s *Service) accountRow(ctx context.Context, reference string) (db.Account, error) {
	id, err := s.findAccount(ctx, reference)
	if err != nil {
		return db.Account{}, err
	}
	row, err := s.store.AccountByID(ctx, id)
	return row.Account, err
}

// AccountFilter narrows a list of accounts; empty fields do not. Closed accounts
// are listed only when State asks for them.
type AccountFilter struct {
	Search, State, Server, Plan string
}

// Accounts returns a page of accounts in the order of their main domains.
func (s *Service) Accounts(ctx context.Context, f AccountFilter, next string, most int) (api.AccountPage, error) {
	page := api.AccountPage{Accounts: []api.Account{}}
	p := db.AccountsParams{State: f.State, Server: f.Server, Plan: f.Plan, Most: int32(most + 1)}
	p.Search = escapeLike(strings.ToLower(strings.TrimSpace(f.Search)))
	if domain, _, err := names.ParseDomain(f.Search); err == nil && domain.String() != domain.Unicode() {
		p.Search = escapeLike(domain.String()) // an international name as people read it
	}
	if err := ReadCursor(next, &p.AfterDomain, &p.AfterID); err != nil {
		return page, err
	}
	rows, err := s.store.Accounts(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		last := rows[most-1].Account
		page.Next = cursor(last.MainDomain, last.ID)
	}
	for _, row := range rows {
		page.Accounts = append(page.Accounts, accountView(db.AccountByIDRow(row)))
	}
	return page, nil
}

// Account returns an account with everything about it.
func (s *Service) Account(ctx context.Context, reference string) (api.AccountDetail, error) {
	id, err := s.findAccount(ctx, reference)
	if err != nil {
		return api.AccountDetail{}, err
	}
	row, err := s.store.AccountByID(ctx, id)
	if err != nil {
		return api.AccountDetail{}, err
	}
	server, err := s.store.ServerByID(ctx, row.Account.ServerID)
	if err != nil {
		return api.AccountDetail{}, err
	}
	plan, err := loadPlan(ctx, s.store.Queries, row.Account.PlanID, row.Plan)
	if err != nil {
		return api.AccountDetail{}, err
	}
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return api.AccountDetail{}, err
	}
	out := api.AccountDetail{Account: accountView(row), Placement: row.Account.Placement, Address: host, Home: "/home/" + row.Account.SignInName,
		Domains: []api.Domain{}, Allowance: []api.Allowed{}, Features: []string{}, Drift: []api.Drift{}, SweptAt: server.SweptAt}
	domains, err := s.store.DomainsOfAccount(ctx, id)
	if err != nil {
		return out, err
	}
	for _, d := range domains {
		out.Domains = append(out.Domains, api.Domain{Name: d.Name, Unicode: unicode(d.Name), ServedAs: d.ServedAs, Main: d.Main, Root: d.Root})
	}
	count := int64(len(domains))
	used := map[plans.Key]*int64{plans.Disk: row.Account.DiskUsed, plans.Domains: &count}
	allowance := plans.AllowanceOf(plan)
	for _, info := range plans.AllLimits {
		allowed := allowance[info.Key]
		v := api.Allowed{Key: string(info.Key), Unit: string(info.Unit), What: info.What, Used: used[info.Key], Source: allowed.Source}
		if !allowed.Unlimited {
			v.Value = &allowed.N
		}
		out.Allowance = append(out.Allowance, v)
	}
	for _, f := range plans.AllFeatures {
		if plan.Features[f] {
			out.Features = append(out.Features, string(f))
		}
	}
	drifts, err := s.store.DriftsOfAccount(ctx, &id)
	for _, d := range drifts {
		out.Drift = append(out.Drift, api.Drift{Account: row.Account.SignInName, Part: d.Part, Subject: d.Subject, What: d.What, Diff: d.Diff, FoundAt: d.FoundAt})
	}
	return out, err
}

func accountByID(ctx context.Context, q *db.Queries, id int64) (api.Account, error) {
	row, err := q.AccountByID(ctx, id)
	return accountView(row), err
}

func accountView(row db.AccountByIDRow) api.Account {
	a := row.Account
	return api.Account{ID: a.ID, SignInName: a.SignInName, Domain: a.MainDomain, Name: unicode(a.MainDomain), Customer: row.Customer, Plan: row.Plan,
		Server: row.Server, State: a.State, DiskUsed: a.DiskUsed, DiskLimit: row.DiskLimit, Applied: a.AppliedRevision == a.Revision,
		Drifts: row.Drifts, OpenedAt: a.OpenedAt, ClosedAt: a.ClosedAt, Version: a.Version}
}

func subjectOf(a db.Account) string { return fmt.Sprintf("account %d %s", a.ID, a.SignInName) }

func nonNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}
