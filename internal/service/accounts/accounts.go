package accounts

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/manifest"
	"victualler/internal/service/dns"
	"victualler/internal/service/domains"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/selling"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// CheckSignIn refuses a sign-in name that cannot be used.
//
// Refusals: InvalidInput, NameTaken.
func (s *Service) CheckSignIn(ctx context.Context, name string) error {
	if err := names.CheckSignIn(name); err != nil {
		return err
	}
	taken, err := s.Store.TakenSignInNames(ctx, name)
	if err == nil && slices.Contains(taken, name) {
		err = signInNameTaken(name)
	}
	return err
}

func signInNameTaken(name string) error {
	return refusal.New(refusal.NameTaken, "the sign-in name %q is in use; choose another", name).On("sign_in_name")
}

// proposeSignIn proposes a sign-in name that is free.
func proposeSignIn(ctx context.Context, q *db.Queries, domain names.Domain) (string, error) {
	first := names.ProposeSignIn(domain, func(string) bool { return false })
	// Numbers are put behind a stem cut short, so ask by the part that always stays.
	taken, err := q.TakenSignInNames(ctx, first[:min(len(first), names.MaxSignIn-6)])
	if err != nil {
		return "", err
	}
	return names.ProposeSignIn(domain, func(name string) bool { return slices.Contains(taken, name) }), nil
}

// reserveSignIn proposes a sign-in name that stays free until the transaction ends: whoever wants
// the same one waits, and then sees that it is taken.
func reserveSignIn(ctx context.Context, tx store.Tx, domain names.Domain) (string, error) {
	locked := ""
	for {
		name, err := proposeSignIn(ctx, tx.Queries, domain)
		if err != nil || name == locked {
			return name, err
		}
		if err := usecase.LockSignInName(ctx, tx, name); err != nil {
			return "", err
		}
		locked = name
	}
}

// OpenAccount opens an account: everything is decided and written down now,
// and made on the server by the operation.
//
// Refusals: ApplyFailed, DomainTaken, InUse, InvalidInput, LimitReached, MailFailed, NameTaken,
// NoServer, NotAllowed, NotFound, ServerClosed, ServerFull, ServerUnreachable, Suspended,
// WeakPassword, WrongState.
// Locks: the customer (shared), the domain's name, the plan (shared), the reseller, the reseller
// (shared), the sign-in name.
func (s *Service) OpenAccount(ctx context.Context, a usecase.Actor, in api.OpenAccount) (api.Opening, error) {
	domain, corrections, err := names.ParseDomain(in.Domain)
	if err != nil {
		return api.Opening{}, err
	}
	server, reason, err := s.chooseServer(ctx, a, in.Server)
	if err != nil {
		return api.Opening{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Opening, error) {
		account, err := s.open(ctx, tx, a, in, domain, server, reason)
		if err != nil {
			return api.Opening{}, err
		}
		out := api.Opening{Corrections: a.SayAll(corrections), Placement: placementFor(a, reason)}
		a.NoteAll(corrections)
		if a.Preview != nil {
			a.Summarize("open account %s for %s on %s", account.SignInName, domain.Unicode(), server.Label)
			if out.Placement != "" {
				a.NoteAll(language.Plains([]string{out.Placement}))
			}
			if in.Kit != nil {
				if _, err := s.kits.InstallAtOpening(ctx, tx, a, account, *in.Kit); err != nil {
					return out, err
				}
			}
			return out, s.rollout.PreviewAccount(ctx, tx, a, account)
		}
		out.Operation, err = usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: "account.open",
			Subject: domain.Unicode(), AccountID: &account.ID,
			ServerID: &account.ServerID, Revision: &account.Revision})
		if err != nil {
			return out, err
		}
		if in.Kit != nil {
			if out.KitOperation, err = s.kits.InstallAtOpening(ctx, tx, a, account, *in.Kit); err != nil {
				return out, err
			}
		}
		if err := s.Queue.Apply(ctx, tx, account.ID); err != nil {
			return out, err
		}
		row, err := tx.AccountRow(ctx, account.ID)
		out.Account = accountView(a, row)
		return out, err
	})
}

// chooseServer chooses the server, except for a request that had its
// answer before: that one must get it again, whatever has become of the servers.
func (s *Service) chooseServer(ctx context.Context, a usecase.Actor, label string) (db.Server, string, error) {
	if a.IdempotencyKey != "" {
		_, err := s.Store.IdempotentAnswer(ctx, db.IdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey})
		if err == nil {
			return db.Server{}, "", nil
		}
		if !store.None(err) {
			return db.Server{}, "", err
		}
	}
	server, choice, err := s.fleet.Place(ctx, label)
	return server, choice.Reason.String(), err
}

// open checks and writes the rows of a new account.
func (s *Service) open(ctx context.Context, tx store.Tx, a usecase.Actor, in api.OpenAccount, domain names.Domain,
	server db.Server, reason string) (db.Account, error) {
	none := db.Account{}
	if err := usecase.LockDomainName(ctx, tx, domain.Registrable()); err != nil {
		return none, err
	}
	d, err := s.domains.NewDomain(ctx, tx, a, domain, 0, nil)
	if err != nil {
		return none, err
	}
	reseller, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
	if err != nil {
		return none, err
	}
	found, err := usecase.FindPlan(ctx, tx.Queries, a, in.Plan)
	if r := refusal.As(err); r != nil {
		return none, refusal.New(r.Kind, "there is no plan %q", in.Plan).Help(refusal.Remedy{By: refusal.Anybody,
			Do: language.New("see the list of plans"), Command: "plan list"}).On("plan")
	}
	if err != nil {
		return none, err
	}
	if found.ResellerID != nil && usecase.OrZero(found.ResellerID) != usecase.OrZero(owner) {
		return none, refusal.Input("plan", "plan %s is %s's, and so must be the customer; name the reseller", in.Plan,
			found.Reseller)
	}
	if err := usecase.LockPlanForShare(ctx, tx, found); err != nil {
		return none, err
	}
	if owner != nil {
		if reseller, err = usecase.LockResellerByID(ctx, tx, *owner); err != nil {
			return none, err
		}
		if reseller.SuspendedAt != nil {
			return none, refusal.New(refusal.Suspended, "%s is suspended (%s); no account can be opened for them",
				reseller.Name, *reseller.SuspendedWhy)
		}
	}
	st, err := entitlement.Load(ctx, s.Base, tx.Queries, db.Account{PlanID: found.ID, ResellerID: owner})
	if err != nil {
		return none, err
	}
	if err := entitlement.AdmitAllotted(ctx, s.Base, tx.Queries, nil, st); err != nil {
		return none, err
	}
	if err := errors.Join(st.Admit(plans.Domains, 1), st.Admit(plans.Disk, starterSize)); err != nil {
		return none, err
	}
	customer, err := s.customerFor(ctx, tx, a, in)
	if err != nil {
		return none, err
	}
	name := in.SignInName
	if name == "" {
		if name, err = reserveSignIn(ctx, tx, domain); err != nil {
			return none, err
		}
	} else if err := names.CheckSignIn(name); err != nil {
		return none, err
	} else if err := usecase.LockSignInName(ctx, tx, name); err != nil {
		return none, err
	}
	account, err := tx.AddAccount(ctx, db.AddAccountParams{SignInName: name, MainDomain: domain.String(),
		CustomerID: customer.ID, PlanID: found.ID, ServerID: server.ID, Placement: reason})
	if store.ViolatedConstraint(err) == "accounts_sign_in_name" {
		return none, signInNameTaken(name)
	}
	if err != nil {
		return none, err
	}
	d.AccountID, d.Main, d.Root, d.CountsAs = account.ID, true, manifest.RootFor(domain), string(plans.Domains)
	d.ServedAs, d.Code, d.KeepPath, d.KeepQuery, d.TemplateID = string(sites.Site), 301, true, true, found.TemplateID
	if _, err := tx.AddDomain(ctx, d); err != nil {
		return none, err
	}
	if st, err = entitlement.Load(ctx, s.Base, tx.Queries, account); err != nil {
		return none, err
	}
	if err := tx.AddSiteCertificates(ctx, account.ID); err != nil {
		return none, err
	}
	if err := dns.SyncZones(ctx, tx, a, st); err != nil {
		return none, err
	}
	// From now on, a sweep of the server knows of it.
	if err := tx.AddAccountServer(ctx, db.AddAccountServerParams{AccountID: account.ID,
		ServerID: server.ID}); err != nil {
		return none, err
	}
	if _, err := tx.AddLogin(ctx, db.AddLoginParams{AccountID: account.ID, Name: name, Main: true}); err != nil {
		return none, err
	}
	if err := usecase.Record(ctx, tx, a, "account.open", usecase.AboutAccount(account), nil,
		map[string]string{"domain": domain.String(), "sign_in_name": name,
			"customer": customer.Name, "plan": entitlement.PlanRef(found.Reseller, found.Name),
			"server": server.Label}); err != nil {
		return none, err
	}
	return account, s.activate(ctx, tx, a, in, customer, name)
}

// activate makes the sign-in for the customer of a new account, if it is asked for.
func (s *Service) activate(ctx context.Context, tx store.Tx, a usecase.Actor, in api.OpenAccount, customer db.Customer,
	name string) error {
	if in.Activation == "" || in.Activation == "none" {
		return nil
	}
	p := api.NewPerson{Name: name, Customer: customer.ID, Language: customer.Language, ReadOnly: in.ReadOnly,
		Activation: in.Activation, Password: in.Password, MustChange: in.MustChange}
	if customer.Email != nil {
		p.Email = *customer.Email
	}
	_, err := s.people.AddPersonTx(ctx, tx, a, p)
	if r := refusal.As(err); r != nil && len(r.Fields) == 1 && r.Fields[0].Name == "email" {
		return r.On("customer_email")
	}
	return err
}

// starterSize is the disk space without which not even an empty site can be.
const starterSize = plans.MiB

func (s *Service) customerFor(ctx context.Context, tx store.Tx, a usecase.Actor, in api.OpenAccount) (db.Customer,
	error) {
	if in.NewCustomer {
		c, err := s.selling.AddCustomerTx(ctx, tx, a, api.NewCustomer{Name: in.Customer, Reseller: in.Reseller,
			Email: in.CustomerEmail, Language: in.Language})
		if r := refusal.As(err); r != nil && len(r.Fields) == 1 {
			return c, r.On(map[string]string{"name": "customer", "email": "customer_email"}[r.Fields[0].Name])
		}
		return c, err
	}
	_, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
	if err != nil {
		return db.Customer{}, err
	}
	number, err := usecase.FindCustomer(ctx, tx.Queries, a, in.Customer, owner)
	if r := refusal.As(err); r != nil {
		return db.Customer{}, r.On("customer")
	}
	if err != nil {
		return db.Customer{}, err
	}
	row, err := usecase.LockCustomerForKeyShare(ctx, tx, number)
	if err == nil && usecase.OrZero(row.ResellerID) != usecase.OrZero(owner) {
		err = refusal.New(refusal.NotFound,
			"there is no such customer %q; a reseller's customer needs the reseller named", in.Customer).On("customer")
	}
	return row, err
}

// CloseAccount closes an account. Confirm must be its sign-in name.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: the account.
func (s *Service) CloseAccount(ctx context.Context, a usecase.Actor, reference, confirm string) (api.Started, error) {
	return s.rollout.ChangeAccount(ctx, a, reference, "account.close",
		func(tx store.Tx, account db.Account) (db.Account, error) {
			if confirm != account.SignInName {
				return account, refusal.Input("sign_in_name", "type the account's sign-in name, %s, to close it",
					account.SignInName)
			}
			if account.State == "closing" || account.State == "closed" {
				return account, refusal.New(refusal.WrongState, "%s is %s already", account.SignInName,
					usecase.Word(account.State))
			}
			if a.Preview != nil {
				if err := s.previewClosing(ctx, tx, a, account); err != nil {
					return account, err
				}
			}
			after, err := tx.SetAccountState(ctx, db.SetAccountStateParams{ID: account.ID, State: "closing"})
			if err != nil {
				return account, err
			}
			return after, usecase.Record(ctx, tx, a, "account.close", usecase.AboutAccount(account),
				map[string]string{"state": account.State}, map[string]string{"state": after.State})
		})
}

func (s *Service) previewClosing(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account) error {
	domains, err := tx.DomainsOfAccount(ctx, account.ID)
	if err != nil {
		return err
	}
	server, err := tx.ServerByID(ctx, account.ServerID)
	if err != nil {
		return err
	}
	var gone []string
	for _, d := range domains {
		gone = append(gone, d.Name)
	}
	used := "an unknown amount of"
	if account.DiskUsed != nil {
		used = plans.FormatSize(*account.DiskUsed)
	}
	a.Summarize("close account %s on %s", account.SignInName, server.Label)
	a.Note("no longer served: %s", strings.Join(gone, ", "))
	a.Note("deleted for good: %s data in /home/%s", used, account.SignInName)
	return nil
}

// RepairAccount has the account's manifest applied again.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: the account.
func (s *Service) RepairAccount(ctx context.Context, a usecase.Actor, reference string) (api.Started, error) {
	return s.rollout.ChangeAccount(ctx, a, reference, "account.repair",
		func(tx store.Tx, account db.Account) (db.Account, error) {
			if account.State == "closed" {
				return account, refusal.New(refusal.WrongState, "%s is closed; there is nothing to repair",
					account.SignInName)
			}
			a.Summarize("repair account %s", account.SignInName)
			if err := tx.ClearAppliedDigests(ctx, account.ID); err != nil {
				return account, err
			}
			return account, usecase.Record(ctx, tx, a, "account.repair", usecase.AboutAccount(account), nil, nil)
		})
}

// AccountFilter narrows a list of accounts; empty fields do not. Closed accounts
// are listed only when State asks for them.
type AccountFilter struct {
	Search, State, Server, Plan, Reseller, Customer string
	// Needs leaves those that need somebody: for drift, a warning, or their disk space.
	Needs string
}

// Accounts returns a page of accounts in the order of their main domains.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Accounts(ctx context.Context, a usecase.Actor, f AccountFilter, next string,
	most int) (api.AccountPage, error) {
	page := api.AccountPage{Accounts: []api.Account{}}
	p := db.AccountPageParams{State: f.State, Needs: f.Needs, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	p.Search = usecase.EscapeLike(strings.ToLower(strings.TrimSpace(f.Search)))
	if domain, _, err := names.ParseDomain(f.Search); err == nil && domain.String() != domain.Unicode() {
		p.Search = usecase.EscapeLike(domain.String()) // an international name as people read it
	}
	if f.Server != "" {
		row, err := s.Store.ServerByLabel(ctx, f.Server)
		if store.None(err) {
			return page, usecase.NotFound("server", f.Server)
		}
		if err != nil {
			return page, err
		}
		p.Server = row.ID
	}
	if f.Plan != "" {
		row, err := usecase.FindPlan(ctx, s.Store.Queries, a, f.Plan)
		if err != nil {
			return page, err
		}
		p.Plan = row.ID
	}
	if f.Reseller != "" {
		row, err := usecase.FindReseller(ctx, s.Store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Reseller = row.ID
	}
	if f.Customer != "" {
		number, err := usecase.FindCustomer(ctx, s.Store.Queries, a, f.Customer, nil)
		if err != nil {
			return page, err
		}
		p.Customer = number
	}
	if err := usecase.ReadCursor(next, &p.AfterDomain, &p.AfterID); err != nil {
		return page, err
	}
	ids, err := s.Store.Fresh().AccountPage(ctx, p)
	if err != nil {
		return page, err
	}
	if len(ids) == 0 && f.Server != "" && !a.Allows(rights.ServersRead) {
		// They know of the servers of their accounts, and of no other.
		return page, usecase.NotFound("server", f.Server)
	}
	more := len(ids) > most
	rows, err := s.Store.AccountRows(ctx, ids[:min(len(ids), most)])
	if err != nil {
		return page, err
	}
	if more && len(rows) > 0 {
		last := rows[len(rows)-1]
		page.Next = usecase.Cursor(last.MainDomain, last.ID)
	}
	for _, row := range rows {
		page.Accounts = append(page.Accounts, accountView(a, row))
	}
	return page, nil
}

// Account returns an account with everything about it.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Account(ctx context.Context, a usecase.Actor, reference string) (api.AccountDetail, error) {
	none := api.AccountDetail{}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return none, err
	}
	row, err := s.Store.AccountRow(ctx, number)
	if err != nil {
		return none, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return none, err
	}
	server, err := s.Store.ServerByID(ctx, row.ServerID)
	if err != nil {
		return none, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return none, err
	}
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return none, err
	}
	out := api.AccountDetail{Account: accountView(a, row), Placement: placementFor(a, row.Placement), Address: host,
		Home:    usecase.HomeOf(account),
		Domains: []api.Domain{}, Excepted: []api.Exception{}, Drift: []api.Drift{}, SweptAt: server.SweptAt}
	out.Allowance, out.Features = st.Views(a)
	for _, e := range st.Exceptions {
		out.Excepted = append(out.Excepted, selling.ExceptionView(e))
	}
	if h, err := entitlement.ReadFrozenTerms(account.FrozenTerms); err != nil {
		return none, err
	} else if h != nil {
		out.FrozenTerms = &api.FrozenTerms{Plan: h.Plan, Since: *account.FrozenAt}
	}
	if row.Suspended {
		out.Suspension = &api.Suspension{Why: row.SuspendedWhy, By: row.SuspendedBy}
		if row.SuspendedAt != nil {
			out.Suspension.Since = *row.SuspendedAt
		}
	}
	rows, err := domains.LoadSites(ctx, s.Store.Queries, st)
	if err != nil {
		return none, err
	}
	for _, d := range rows.Domains {
		out.Domains = append(out.Domains, domains.DomainView(d, rows))
	}
	if out.Warnings, err = s.rollout.Warnings(ctx, a, st); err != nil {
		return none, err
	}
	out.Warnings = append(rows.ProofWarnings(a), out.Warnings...)
	if out.Running, err = s.rollout.Running(ctx, number); err != nil {
		return none, err
	}
	showRunning(out.Allowance, out.Running)
	if a.Role == rights.Customer {
		return out, nil // how the server is found is not the customer's business
	}
	drifts, err := s.Store.DriftsOfAccount(ctx, &number)
	for _, d := range drifts {
		out.Drift = append(out.Drift, api.Drift{Account: row.SignInName, Part: d.Part, Subject: d.Subject,
			Detail: a.SayKept(d.Detail), Diff: d.Diff, FoundAt: d.FoundAt})
	}
	return out, err
}

// placementFor tells operators why an account is on its server; it speaks of other servers, which
// are nobody else's business.
func placementFor(a usecase.Actor, reason string) string {
	if a.Role != rights.Operator {
		return ""
	}
	return reason
}

func accountView(a usecase.Actor, row db.AccountRow) api.Account {
	v := api.Account{ID: row.ID, SignInName: row.SignInName, Domain: row.MainDomain,
		Name: usecase.Unicode(row.MainDomain), Customer: row.Customer, CustomerID: row.CustomerID,
		Plan: entitlement.PlanRefFor(a, row.PlanReseller, row.Plan), Server: row.Server, State: row.State,
		DiskUsed: row.DiskUsed, DiskLimit: row.DiskLimit,
		Exceptions: row.Exceptions, Frozen: row.FrozenAt != nil, Applied: row.AppliedRevision == row.Revision,
		Drifts: row.Drifts, OpenedAt: row.OpenedAt, ClosedAt: row.ClosedAt,
		MailState: row.MailState, Version: row.Version}
	if row.Suspended {
		v.State = "suspended"
	}
	switch a.Role {
	case rights.Operator:
		v.Reseller = row.Reseller
	case rights.Customer:
		v.Plan, v.Drifts = row.Plan, 0
	}
	return v
}

// CheckDomain tells what would become of a domain that is being typed.
//
// Refusals: DomainTaken, InvalidInput.
func (s *Service) CheckDomain(ctx context.Context, a usecase.Actor, typed string) (api.DomainCheck, error) {
	domain, corrections, err := names.ParseDomain(typed)
	if err != nil {
		return api.DomainCheck{}, err
	}
	out := api.DomainCheck{Domain: domain.String(), Unicode: domain.Unicode(), Corrections: a.SayAll(corrections)}
	if out.Taken, err = s.domains.Taken(ctx, a, domain); err != nil {
		return out, err
	}
	out.SignInName, err = proposeSignIn(ctx, s.Store.Queries, domain)
	return out, err
}

// showRunning has the limits of what runs show what is used of them.
func showRunning(allowance []api.Allowed, running *api.Running) {
	if running == nil {
		running = &api.Running{}
	}
	for i, l := range allowance {
		used, is := map[plans.Key]int64{plans.Processes: running.Processes, plans.Memory: running.Memory,
			plans.CPU: running.CPU}[plans.Key(l.Key)]
		if !is {
			continue
		}
		allowance[i].Used = &used
		if l.Value != nil {
			left := max(0, *l.Value-used)
			allowance[i].Left = &left
		}
	}
}
