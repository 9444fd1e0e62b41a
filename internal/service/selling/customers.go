package selling

import (
	"cmp"
	"context"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddCustomer adds a customer.
//
// Refusals: InvalidInput, NameTaken, NotFound.
// Locks: the reseller (shared).
func (s *Service) AddCustomer(ctx context.Context, a usecase.Actor, in api.NewCustomer) (api.Customer, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Customer, error) {
		row, err := s.AddCustomerTx(ctx, tx, a, in)
		if err != nil {
			return api.Customer{}, err
		}
		a.Summarize("add customer %s", row.Name)
		return customerIn(ctx, tx.Queries, a, row.ID)
	})
}

// customerRecord is a customer as events hold it.
type customerRecord struct {
	Name     string `json:"name"`
	Contact  string `json:"contact,omitempty"`
	Email    string `json:"email,omitempty"`
	Phone    string `json:"phone,omitempty"`
	Postal   string `json:"postal,omitempty"`
	Language string `json:"language"`
}

func recordOfCustomer(row db.Customer) customerRecord {
	r := customerRecord{Name: row.Name, Contact: row.Contact, Phone: row.Phone, Postal: row.Postal,
		Language: row.Language}
	if row.Email != nil {
		r.Email = *row.Email
	}
	return r
}

func customerNameTaken(name string) error {
	return refusal.New(refusal.NameTaken, "there is a customer %q already", name).On("name")
}

// AddCustomerTx adds a customer in a transaction of the caller's. It locks the reseller, that it
// stays while customers are added.
//
// Refusals: InvalidInput, NameTaken, NotFound.
// Locks: the reseller (shared).
func (s *Service) AddCustomerTx(ctx context.Context, tx store.Tx, a usecase.Actor, in api.NewCustomer) (db.Customer,
	error) {
	none := db.Customer{}
	_, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
	if err != nil {
		return none, err
	}
	if err := usecase.LockResellerForKeyShare(ctx, tx, owner); err != nil {
		return none, err
	}
	p := db.AddCustomerParams{ResellerID: owner, Name: usecase.OneLine(in.Name), Contact: usecase.OneLine(in.Contact),
		Phone: usecase.OneLine(in.Phone), Postal: strings.TrimSpace(in.Postal), Language: in.Language}
	if p.Name == "" {
		return none, refusal.Input("name", "a customer needs a name")
	}
	if _, err := strconv.ParseInt(p.Name, 10, 64); err == nil {
		return none, refusal.Input("name", "a name of nothing but digits would be taken for a customer's number")
	}
	p.Language = cmp.Or(p.Language, language.English)
	if err := language.Check(p.Language); err != nil {
		return db.Customer{}, refusal.Input("language", "%s", err)
	}
	if p.Email, err = usecase.MailAddress("email", in.Email); err != nil {
		return none, err
	}
	row, err := tx.AddCustomer(ctx, p)
	if store.ViolatedConstraint(err) == "customers_name" {
		return none, customerNameTaken(p.Name)
	}
	if err != nil {
		return none, err
	}
	return row, usecase.Record(ctx, tx, a, "customer.add", usecase.AboutCustomer(row), nil, recordOfCustomer(row))
}

// Customer returns one customer.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Customer(ctx context.Context, a usecase.Actor, reference string) (api.Customer, error) {
	number, err := usecase.FindCustomer(ctx, s.Store.Queries, a, reference, nil)
	if err != nil {
		return api.Customer{}, err
	}
	return customerIn(ctx, s.Store.Queries, a, number)
}

func customerIn(ctx context.Context, q *db.Queries, a usecase.Actor, number int64) (api.Customer, error) {
	rows, err := q.Customers(ctx, db.CustomersParams{Customer: number, Most: 1})
	if err != nil || len(rows) == 0 {
		return api.Customer{}, err
	}
	return customerView(a, rows[0]), nil
}

func customerView(a usecase.Actor, row db.CustomersRow) api.Customer {
	c := api.Customer{ID: row.ID, Name: row.Name, Contact: row.Contact, Phone: row.Phone, Postal: row.Postal,
		Language: row.Language, Accounts: row.Accounts, Since: row.CreatedAt, Version: row.Version}
	if row.Email != nil {
		c.Email = *row.Email
	}
	if a.Role == rights.Operator {
		c.Reseller = row.Reseller
	}
	return c
}

// CustomerFilter narrows a list of customers; empty fields do not.
type CustomerFilter struct {
	Search, Reseller string
	// Own lists the operator's own customers only.
	Own bool
}

// Customers returns a page of customers in the order of their names.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Customers(ctx context.Context, a usecase.Actor, f CustomerFilter, next string,
	most int) (api.CustomerPage, error) {
	page := api.CustomerPage{Customers: []api.Customer{}}
	p := db.CustomersParams{Search: usecase.EscapeLike(strings.TrimSpace(f.Search)), Own: f.Own, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if f.Reseller != "" {
		row, err := usecase.FindReseller(ctx, s.Store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Reseller = row.ID
	}
	if err := usecase.ReadCursor(next, &p.AfterName, &p.AfterID); err != nil {
		return page, err
	}
	rows, err := s.Store.Fresh().Customers(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(strings.ToLower(rows[most-1].Name), rows[most-1].ID)
	}
	for _, row := range rows {
		page.Customers = append(page.Customers, customerView(a, row))
	}
	return page, nil
}

// ChangeCustomer changes a customer. Version is the one the caller has seen, or 0. The servers of
// their accounts are told of another language.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NameTaken, NotFound, ServerUnreachable.
// Locks: the customer.
func (s *Service) ChangeCustomer(ctx context.Context, a usecase.Actor, reference string, version int64,
	in api.CustomerChange) (api.Customer, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Customer, error) {
		none := api.Customer{}
		row, err := usecase.LockCustomer(ctx, tx, a, reference)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("the customer", version, row.Version); err != nil {
			return none, err
		}
		p := db.ChangeCustomerParams{ID: row.ID, Name: row.Name, Email: row.Email, Contact: row.Contact,
			Phone: row.Phone, Postal: row.Postal, Language: row.Language}
		for _, part := range []struct {
			to   *string
			from *string
		}{{&p.Name, in.Name}, {&p.Contact, in.Contact}, {&p.Phone, in.Phone}, {&p.Language, in.Language}} {
			if part.from != nil {
				*part.to = usecase.OneLine(*part.from)
			}
		}
		if err := language.Check(p.Language); err != nil {
			return none, refusal.Input("language", "%s", err)
		}
		if in.Postal != nil {
			p.Postal = strings.TrimSpace(*in.Postal)
		}
		if in.Email != nil {
			if p.Email, err = usecase.MailAddress("email", *in.Email); err != nil {
				return none, err
			}
		}
		if p.Name == "" {
			return none, refusal.Input("name", "a customer needs a name")
		}
		after, err := tx.ChangeCustomer(ctx, p)
		if store.ViolatedConstraint(err) == "customers_name" {
			return none, customerNameTaken(p.Name)
		}
		if err != nil {
			return none, err
		}
		a.Summarize("change customer %s", row.Name)
		if err := usecase.Record(ctx, tx, a, "customer.change", usecase.AboutCustomer(after), recordOfCustomer(row),
			recordOfCustomer(after)); err != nil {
			return none, err
		}
		if after.Language != row.Language {
			if err := s.applyAccountsOf(ctx, tx, a, after); err != nil {
				return none, err
			}
		}
		return customerIn(ctx, tx.Queries, a, row.ID)
	})
}

// applyAccountsOf has the servers of a customer's accounts told that the customer has changed.
func (s *Service) applyAccountsOf(ctx context.Context, tx store.Tx, a usecase.Actor, customer db.Customer) error {
	accounts, err := tx.AccountsOfCustomer(ctx, customer.ID)
	if err != nil {
		return err
	}
	numbers := make([]int64, len(accounts))
	for i, account := range accounts {
		numbers[i] = account.ID
	}
	_, err = s.rollout.ApplyAccounts(ctx, tx, a, "customer.change", usecase.AboutCustomer(customer), numbers)
	return err
}

// RemoveCustomer removes a customer without accounts, and whoever signs in for them.
//
// Refusals: InUse, InvalidInput, NotFound.
// Locks: the customer.
func (s *Service) RemoveCustomer(ctx context.Context, a usecase.Actor, reference string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		row, err := usecase.LockCustomer(ctx, tx, a, reference)
		if err != nil {
			return err
		}
		count, err := tx.CountAccountsOf(ctx, row.ID)
		if err != nil {
			return err
		}
		if count.Open > 0 {
			return refusal.New(refusal.InUse, "%s has %s; close or give them to somebody else first", row.Name,
				usecase.Counted(int(count.Open), "account"))
		}
		a.Summarize("remove customer %s with all contact data, and whoever signs in for them", row.Name)
		if err := tx.RemoveCustomer(ctx, row.ID); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "customer.remove", usecase.AboutCustomer(row), recordOfCustomer(row), nil)
	})
}

// Notes returns what staff has noted about a customer.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Notes(ctx context.Context, a usecase.Actor, reference string) (api.Notes, error) {
	number, err := usecase.FindCustomer(ctx, s.Store.Queries, a, reference, nil)
	if err != nil {
		return api.Notes{}, err
	}
	row, err := s.Store.CustomerByID(ctx, number)
	return api.Notes{Notes: row.Notes}, err
}

// ChangeNotes replaces what staff has noted about a customer. The event
// is not the customer's to see.
//
// Refusals: InvalidInput, NotFound.
// Locks: the customer.
func (s *Service) ChangeNotes(ctx context.Context, a usecase.Actor, reference string, in api.Notes) (api.Notes, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Notes, error) {
		row, err := usecase.LockCustomer(ctx, tx, a, reference)
		if err != nil {
			return api.Notes{}, err
		}
		if err := tx.SaveNotes(ctx, db.SaveNotesParams{ID: row.ID, Notes: in.Notes}); err != nil {
			return api.Notes{}, err
		}
		a.Summarize("keep notes about %s", row.Name)
		of := usecase.About("notes about customer %d %s", row.ID, row.Name).Of(row.ResellerID)
		return in, usecase.Record(ctx, tx, a, "customer.notes", of, map[string]string{"notes": row.Notes},
			map[string]string{"notes": in.Notes})
	})
}

// Mails returns the last messages to a customer.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Mails(ctx context.Context, a usecase.Actor, reference string) (api.MailList, error) {
	list := api.MailList{Mails: []api.Mail{}}
	number, err := usecase.FindCustomer(ctx, s.Store.Queries, a, reference, nil)
	if err != nil {
		return list, err
	}
	rows, err := s.Store.MailsOfCustomer(ctx, &number)
	for _, row := range rows {
		m := api.Mail{Kind: row.Kind, To: row.Recipient, State: row.State, Failure: row.Failure,
			CreatedAt: row.CreatedAt}
		if row.State == "sent" {
			m.SentAt = row.FinishedAt
		}
		list.Mails = append(list.Mails, m)
	}
	return list, err
}
