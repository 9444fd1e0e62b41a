package usecase

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// FindAccount returns the number of the account with that number, sign-in name or
// domain, if the actor may see it.
func FindAccount(ctx context.Context, q *db.Queries, a Actor, reference string) (int64, error) {
	reseller, customer := a.Scope()
	typed := strings.ToLower(strings.TrimSpace(reference))
	if number, err := strconv.ParseInt(typed, 10, 64); err == nil {
		number, err = q.AccountInScope(ctx, db.AccountInScopeParams{ID: number, Reseller: reseller, Customer: customer})
		if store.None(err) {
			err = NotFound("account", reference)
		}
		return number, err
	}
	number, err := q.FindAccount(ctx, db.FindAccountParams{Reference: typed, Reseller: reseller, Customer: customer})
	if store.None(err) {
		if domain, _, parseErr := names.ParseDomain(reference); parseErr == nil && domain.String() != typed {
			number, err = q.FindAccount(ctx, db.FindAccountParams{Reference: domain.String(), Reseller: reseller,
				Customer: customer})
		}
	}
	if store.None(err) {
		err = NotFound("account", reference)
	}
	return number, err
}

// searched are the things that a search finds by a part of their name.
var searched = []string{"account", "domain", "zone", "server"}

// shellWord writes a word for a shell, in quotation marks where it needs them.
func shellWord(text string) string {
	if strings.ContainsAny(text, " \t'\"$&|;<>()*?[]#~=%!{}`\\") || text == "" {
		return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	return text
}

// NotFound is the same answer for what is not there and what is not the actor's.
func NotFound(what, reference string) error {
	r := refusal.New(refusal.NotFound, "there is no %s %q here", language.Plain(what), reference)
	if slices.Contains(searched, what) {
		return r.Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("search for it"),
			Command: "search " + shellWord(reference)})
	}
	return r
}

// FindCustomer returns the number of a customer whom the actor may see. Of several with the same
// name it prefers the one of the reseller named, or the operator's own.
func FindCustomer(ctx context.Context, q *db.Queries, a Actor, reference string, owner *int64) (int64, error) {
	p := db.FindCustomersParams{Name: OneLine(reference), ID: -1}
	p.Reseller, p.Customer = a.Scope()
	if owner != nil {
		p.Reseller = *owner
	}
	if number, err := strconv.ParseInt(p.Name, 10, 64); err == nil {
		p.ID = number
	}
	rows, err := q.FindCustomers(ctx, p)
	if err != nil {
		return 0, err
	}
	switch {
	case len(rows) == 0:
		return 0, customerNotFound(reference)
	case len(rows) == 1 || rows[0].Reseller == "":
		return rows[0].ID, nil
	}
	var which []string
	for _, row := range rows {
		which = append(which, fmt.Sprintf("%d (of %s)", row.ID, row.Reseller))
	}
	return 0, refusal.Input("customer", "several customers are called %q; name one by its number: %s", reference,
		strings.Join(which, ", "))
}

func customerNotFound(reference string) error {
	return refusal.New(refusal.NotFound, "there is no customer %q here; check the name, or add the customer first",
		reference)
}

// FindPlan finds a plan that the actor may see by how they call it.
func FindPlan(ctx context.Context, q *db.Queries, a Actor, reference string) (db.FindPlanRow, error) {
	reseller, name, qualified := strings.Cut(reference, ".")
	if !qualified {
		reseller, name = a.Reseller, reference
	}
	if a.Role != rights.Operator && reseller != a.Reseller {
		return db.FindPlanRow{}, NotFound("plan", reference)
	}
	row, err := q.FindPlan(ctx, db.FindPlanParams{Name: name, Reseller: reseller})
	if store.None(err) {
		return row, NotFound("plan", reference)
	}
	return row, err
}

// ResellerFor returns the reseller to whom something new belongs: the
// actor's own, or for operators the one they name.
func ResellerFor(ctx context.Context, q *db.Queries, a Actor, named string) (db.Reseller, *int64, error) {
	if a.Role != rights.Operator {
		if named != "" && named != a.Reseller {
			return db.Reseller{}, nil, noReseller(named) // whether there is one is not the actor's business
		}
		named = a.Reseller
	}
	if named == "" {
		return db.Reseller{}, nil, nil
	}
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: named})
	if store.None(err) {
		return row, nil, noReseller(named)
	}
	return row, &row.ID, err
}

func noReseller(name string) error {
	return refusal.New(refusal.NotFound, "there is no reseller %q", name).
		Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("see the list of resellers"),
			Command: "reseller list"}).
		On("reseller")
}

// FindReseller finds a reseller whom the actor may see.
func FindReseller(ctx context.Context, q *db.Queries, a Actor, name string) (db.Reseller, error) {
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: name, Scope: a.ResellerID})
	if store.None(err) {
		return row, NotFound("reseller", name)
	}
	return row, err
}
