package usecase

import (
	"context"
	"fmt"

	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// All row locks are in this file, and whoever needs several takes them
// in this order, so that nobody waits in a circle:
//
//  1. names: a domain's ([LockDomainName]), a sign-in name ([LockSignInName]);
//  2. what others refer to: settings, plan, template;
//  3. reseller, customer;
//  4. accounts, in the order of their numbers;
//  5. what belongs to one account: the certificate of a site, and the authority it is from;
//  6. people.
//
// Servers are locked alone. A site that changes its template locks it after its account, as only
// then it is known which it is; should that meet a change of the template, the database ends one of
// the two, and it is tried again ([store.Store.InTx]).

// LockDomainName has everybody wait who adds, changes or removes a name of the same registrable
// domain, whether it exists or not.
func LockDomainName(ctx context.Context, tx store.Tx, registrable string) error {
	return tx.LockDomain(ctx, registrable)
}

// LockSignInName has everybody wait who wants the same sign-in name, whether it exists or not.
func LockSignInName(ctx context.Context, tx store.Tx, name string) error {
	return tx.LockSignInName(ctx, name)
}

// LockSettings locks the settings of the installation.
func LockSettings(ctx context.Context, tx store.Tx) (db.Setting, error) { return tx.LockSettings(ctx) }

// LockKits has everybody wait who registers, offers, withdraws or removes kits.
func LockKits(ctx context.Context, tx store.Tx) error { return tx.LockKits(ctx) }

// LockPlan locks a plan to change or remove it. There may be none: [store.None].
func LockPlan(ctx context.Context, tx store.Tx, plan int64) (db.Plan, error) {
	return tx.LockPlan(ctx, plan)
}

// LockTemplate locks a site template to change or remove it.
func LockTemplate(ctx context.Context, tx store.Tx, template int64) (db.Template, error) {
	return tx.LockTemplate(ctx, template)
}

// LockTemplateForShare keeps a site template as it is until the transaction ends.
func LockTemplateForShare(ctx context.Context, tx store.Tx, template int64) (int64, error) {
	return tx.LockTemplateForShare(ctx, template)
}

// LockAccount locks an account whose reseller need not be locked:
// nothing is given to it out of a share.
func LockAccount(ctx context.Context, tx store.Tx, account int64) (db.Account, error) {
	return tx.LockAccount(ctx, account)
}

// LockAccountRows locks accounts whose resellers are locked already, or need not be.
func LockAccountRows(ctx context.Context, tx store.Tx, accounts []int64) ([]db.Account, error) {
	return tx.LockAccounts(ctx, accounts)
}

// LockSiteCertificate locks how a site gets its certificate; the account is locked before.
func LockSiteCertificate(ctx context.Context, tx store.Tx, domain int64) (db.SiteCertificate, error) {
	return tx.LockSiteCertificate(ctx, domain)
}

// LockAuthority has everybody wait who counts the orders of an authority.
func LockAuthority(ctx context.Context, tx store.Tx, authority int64) error {
	return tx.LockAuthority(ctx, authority)
}

// LockPeople has everybody wait who adds or removes an operator, so that the last one stays.
func LockPeople(ctx context.Context, tx store.Tx) error { return tx.LockPeople(ctx) }

// LockPerson locks a person.
func LockPerson(ctx context.Context, tx store.Tx, person int64) (db.Person, error) {
	return tx.LockPerson(ctx, person)
}

// LockCustomer finds and locks a customer.
func LockCustomer(ctx context.Context, tx store.Tx, a Actor, reference string) (db.Customer, error) {
	number, err := FindCustomer(ctx, tx.Queries, a, reference, nil)
	if err != nil {
		return db.Customer{}, err
	}
	row, err := tx.LockCustomer(ctx, number)
	if store.None(err) {
		err = customerNotFound(reference)
	}
	return row, err
}

// LockCustomerForKeyShare sees to it that the customer found before is
// there until the transaction ends.
func LockCustomerForKeyShare(ctx context.Context, tx store.Tx, number int64) (db.Customer, error) {
	row, err := tx.LockCustomerForKeyShare(ctx, number)
	if store.None(err) {
		err = customerNotFound(fmt.Sprint(number))
	}
	return row, err
}

// LockPlanForShare keeps a plan found before as it is until the transaction ends.
func LockPlanForShare(ctx context.Context, tx store.Tx, plan db.FindPlanRow) error {
	_, err := tx.LockPlanForShare(ctx, plan.ID)
	if store.None(err) {
		err = NotFound("plan", plan.Name)
	}
	return err
}

// LockResellerForKeyShare sees to it that the reseller found before is
// there until the transaction ends. Nil is the operator.
func LockResellerForKeyShare(ctx context.Context, tx store.Tx, owner *int64) error {
	if owner == nil {
		return nil
	}
	_, err := tx.LockResellerForKeyShare(ctx, *owner)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return err
}

// LockAccountsOn locks the resellers of all accounts on a plan, and then the accounts, in the
// order of their numbers, so that nobody waits in a circle.
func LockAccountsOn(ctx context.Context, tx store.Tx, plan int64) ([]db.Account, error) {
	rows, err := tx.AccountsOnPlan(ctx, plan)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
	}
	return LockAccounts(ctx, tx, ids)
}

// LockAccounts locks accounts and before them their resellers.
func LockAccounts(ctx context.Context, tx store.Tx, ids []int64) ([]db.Account, error) {
	resellers, err := tx.ResellersOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	if err := tx.LockResellers(ctx, resellers); err != nil {
		return nil, err
	}
	return tx.LockAccounts(ctx, ids)
}

// LockReseller finds and locks a reseller.
func LockReseller(ctx context.Context, tx store.Tx, a Actor, name string) (db.Reseller, error) {
	row, err := FindReseller(ctx, tx.Queries, a, name)
	if err != nil {
		return row, err
	}
	return LockResellerByID(ctx, tx, row.ID)
}

// LockResellerByID locks a reseller found before; it refuses if they were removed meanwhile.
func LockResellerByID(ctx context.Context, tx store.Tx, reseller int64) (db.Reseller, error) {
	row, err := tx.LockReseller(ctx, reseller)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return row, err
}

// LockServer finds and locks a server.
func LockServer(ctx context.Context, tx store.Tx, label string) (db.Server, error) {
	row, err := tx.ServerByLabel(ctx, label)
	if store.None(err) {
		return row, NotFound("server", label)
	}
	if err != nil {
		return row, err
	}
	return tx.LockServer(ctx, row.ID)
}
