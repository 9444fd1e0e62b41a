package service

import (
	"context"
	"fmt"
	"net/mail"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddCustomer adds a customer.
func (s *Service) AddCustomer(ctx context.Context, a Actor, in api.NewCustomer) (api.Customer, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Customer, error) {
		row, err := s.addCustomer(ctx, tx, a, in)
		if err != nil {
			return api.Customer{}, err
		}
		a.say("add customer %s", row.Name)
		return customerIn(ctx, tx.Queries, a, row.ID)
	})
}

// oneLine puts the spaces of a name or the like right.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// mailAddress checks an address that may be left out (RFC 5322, section 3.4.1).
func mailAddress(field, text string) (*string, error) {
	if text == "" {
		return nil, nil
	}
	address, err := mail.ParseAddress(text)
	if err != nil || address.Address != text || len(text) > 254 {
		return nil, refusal.Input(field, "%q is not a mail address; write it as name@domain", text)
	}
	return &text, nil
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
	r := customerRecord{Name: row.Name, Contact: row.Contact, Phone: row.Phone, Postal: row.Postal, Language: row.Language}
	if row.Email != nil {
		r.Email = *row.Email
	}
	return r
}

func aboutCustomer(row db.Customer) subject {
	return subject{text: fmt.Sprintf("customer %d %s", row.ID, row.Name), customer: &row.ID, reseller: row.ResellerID}
}

func customerTaken(name string) error {
	return refusal.New(refusal.NameTaken, "there is a customer %q already", name).On("name")
}

func (s *Service) addCustomer(ctx context.Context, tx store.Tx, a Actor, in api.NewCustomer) (db.Customer, error) {
	none := db.Customer{}
	_, owner, err := resellerFor(ctx, tx.Queries, a, in.Reseller)
	if err != nil {
		return none, err
	}
	if err := keepReseller(ctx, tx, owner); err != nil {
		return none, err
	}
	p := db.AddCustomerParams{ResellerID: owner, Name: oneLine(in.Name), Contact: oneLine(in.Contact), Phone: oneLine(in.Phone), Postal: strings.TrimSpace(in.Postal), Language: in.Language}
	if p.Name == "" {
		return none, refusal.Input("name", "a customer needs a name")
	}
	if _, err := strconv.ParseInt(p.Name, 10, 64); err == nil {
		return none, refusal.Input("name", "a name of nothing but digits would be taken for a customer's number")
	}
	if p.Language == "" {
		p.Language = "en"
	}
	if p.Email, err = mailAddress("email", in.Email); err != nil {
		return none, err
	}
	row, err := tx.AddCustomer(ctx, p)
	if store.Violated(err) == "customers_name" {
		return none, customerTaken(p.Name)
	}
	if err != nil {
		return none, err
	}
	return row, record(ctx, tx, a, "customer.add", aboutCustomer(row), nil, recordOfCustomer(row))
}

// findCustomer returns the number of a customer whom the actor may see. Of several with the same name it prefers the
// one of the reseller named, or the operator's own.
func findCustomer(ctx context.Context, q *db.Queries, a Actor, reference string, owner *int64) (int64, error) {
	p := db.FindCustomersParams{Name: oneLine(reference), ID: -1}
	p.Reseller, p.Customer = a.scope()
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
		return 0, customerGone(reference)
	case len(rows) == 1 || rows[0].Reseller == "":
		return rows[0].ID, nil
	}
	var which []string
	for _, row := range rows {
		which = append(which, fmt.Sprintf("%d (of %s)", row.ID, row.Reseller))
	}
	return 0, refusal.Input("customer", "several customers are called %q; name one by its number: %s", reference, strings.Join(which, ", "))
}

// Customer returns one customer.
func (s *Service) Customer(ctx context.Context, a Actor, reference string) (api.Customer, error) {
	number, err := findCustomer(ctx, s.store.Queries, a, reference, nil)
	if err != nil {
		return api.Customer{}, err
	}
	return customerIn(ctx, s.store.Queries, a, number)
}

func customerIn(ctx context.Context, q *db.Queries, a Actor, number int64) (api.Customer, error) {
	rows, err := q.Customers(ctx, db.CustomersParams{Customer: number, Most: 1})
	if err != nil || len(rows) == 0 {
		return api.Customer{}, err
	}
	return customerView(a, rows[0]), nil
}

func customerView(a Actor, row db.CustomersRow) api.Customer {
	c := api.Customer{ID: row.ID, Name: row.Name, Contact: row.Contact, Phone: row.Phone, Postal: row.Postal, Language: row.Language,
		Accounts: row.Accounts, Since: row.CreatedAt, Version: row.Version}
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
func (s *Service) Customers(ctx context.Context, a Actor, f CustomerFilter, next string, most int) (api.CustomerPage, error) {
	page := api.CustomerPage{Customers: []api.Customer{}}
	p := db.CustomersParams{Search: escapeLike(strings.TrimSpace(f.Search)), Own: f.Own, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.scope()
	if f.Reseller != "" {
		row, err := s.findReseller(ctx, s.store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Reseller = row.ID
	}
	if err := ReadCursor(next, &p.AfterName, &p.AfterID); err != nil {
		return page, err
	}
	rows, err := s.store.Fresh().Customers(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(strings.ToLower(rows[most-1].Name), rows[most-1].ID)
	}
	for _, row := range rows {
		page.Customers = append(page.Customers, customerView(a, row))
	}
	return page, nil
}

// lockCustomer finds and locks a customer.
func lockCustomer(ctx context.Context, tx store.Tx, a Actor, reference string) (db.Customer, error) {
	number, err := findCustomer(ctx, tx.Queries, a, reference, nil)
	if err != nil {
		return db.Customer{}, err
	}
	row, err := tx.LockCustomer(ctx, number)
	if store.None(err) {
		err = customerGone(reference)
	}
	return row, err
}

func customerGone(reference string) error {
	return refusal.New(refusal.NotFound, "there is no customer %q here; check the name, or add the customer first", reference)
}

// keepCustomer sees to it that the customer found before is there until the transaction ends.
func keepCustomer(ctx context.Context, tx store.Tx, number int64) (db.Customer, error) {
	row, err := tx.KeepCustomer(ctx, number)
	if store.None(err) {
		err = customerGone(fmt.Sprint(number))
	}
	return row, err
}

// ChangeCustomer changes a customer. Version is the one the caller has seen, or 0.
func (s *Service) ChangeCustomer(ctx context.Context, a Actor, reference string, version int64, in api.CustomerChange) (api.Customer, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Customer, error) {
		none := api.Customer{}
		row, err := lockCustomer(ctx, tx, a, reference)
		if err != nil {
			return none, err
		}
		if err := unchanged("the customer", version, row.Version); err != nil {
			return none, err
		}
		p := db.ChangeCustomerParams{ID: row.ID, Name: row.Name, Email: row.Email, Contact: row.Contact, Phone: row.Phone, Postal: row.Postal, Language: row.Language}
		for _, part := range []struct {
			to   *string
			from *string
		}{{&p.Name, in.Name}, {&p.Contact, in.Contact}, {&p.Phone, in.Phone}, {&p.Language, in.Language}} {
			if part.from != nil {
				*part.to = oneLine(*part.from)
			}
		}
		if in.Postal != nil {
			p.Postal = strings.TrimSpace(*in.Postal)
		}
		if in.Email != nil {
			if p.Email, err = mailAddress("email", *in.Email); err != nil {
				return none, err
			}
		}
		if p.Name == "" {
			return none, refusal.Input("name", "a customer needs a name")
		}
		after, err := tx.ChangeCustomer(ctx, p)
		if store.Violated(err) == "customers_name" {
			return none, customerTaken(p.Name)
		}
		if err != nil {
			return none, err
		}
		a.say("change customer %s", row.Name)
		if err := record(ctx, tx, a, "customer.change", aboutCustomer(after), recordOfCustomer(row), recordOfCustomer(after)); err != nil {
			return none, err
		}
		return customerIn(ctx, tx.Queries, a, row.ID)
	})
}

// RemoveCustomer removes a customer without accounts, and whoever signs in for them.
func (s *Service) RemoveCustomer(ctx context.Context, a Actor, reference string) error {
	return do(ctx, s, a, func(tx store.Tx) error {
		row, err := lockCustomer(ctx, tx, a, reference)
		if err != nil {
			return err
		}
		count, err := tx.CountAccountsOf(ctx, row.ID)
		if err != nil {
			return err
		}
		if count.Open > 0 {
			return refusal.New(refusal.InUse, "%s has %s; close or give them to somebody else first", row.Name, counted(int(count.Open), "account"))
		}
		a.say("remove customer %s with all contact data, and whoever signs in for them", row.Name)
		if err := tx.RemoveCustomer(ctx, row.ID); err != nil {
			return err
		}
		return record(ctx, tx, a, "customer.remove", aboutCustomer(row), recordOfCustomer(row), nil)
	})
}

// Notes returns what staff has noted about a customer.
func (s *Service) Notes(ctx context.Context, a Actor, reference string) (api.Notes, error) {
	number, err := findCustomer(ctx, s.store.Queries, a, reference, nil)
	if err != nil {
		return api.Notes{}, err
	}
	row, err := s.store.CustomerByID(ctx, number)
	return api.Notes{Notes: row.Notes}, err
}

// KeepNotes replaces what staff has noted about a customer. The event is not the customer's to see.
func (s *Service) KeepNotes(ctx context.Context, a Actor, reference string, in api.Notes) (api.Notes, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Notes, error) {
		row, err := lockCustomer(ctx, tx, a, reference)
		if err != nil {
			return api.Notes{}, err
		}
		if err := tx.KeepNotes(ctx, db.KeepNotesParams{ID: row.ID, Notes: in.Notes}); err != nil {
			return api.Notes{}, err
		}
		a.say("keep notes about %s", row.Name)
		of := about("notes about customer %d %s", row.ID, row.Name).of(row.ResellerID)
		return in, record(ctx, tx, a, "customer.notes", of, map[string]string{"notes": row.Notes}, map[string]string{"notes": in.Notes})
	})
}

// Mails returns the last messages to a customer.
func (s *Service) Mails(ctx context.Context, a Actor, reference string) (api.MailList, error) {
	list := api.MailList{Mails: []api.Mail{}}
	number, err := findCustomer(ctx, s.store.Queries, a, reference, nil)
	if err != nil {
		return list, err
	}
	rows, err := s.store.MailsOfCustomer(ctx, &number)
	for _, row := range rows {
		m := api.Mail{Kind: row.Kind, To: row.Recipient, State: row.State, Failure: row.Failure, CreatedAt: row.CreatedAt}
		if row.State == "sent" {
			m.SentAt = row.FinishedAt
		}
		list.Mails = append(list.Mails, m)
	}
	return list, err
}
