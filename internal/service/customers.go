package service

import (
	"context"
	"net/mail"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddCustomer adds a customer.
func (s *Service) AddCustomer(ctx context.Context, a Actor, in api.NewCustomer) (api.Customer, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Customer, error) { return addCustomer(ctx, tx, a, in) })
}

func addCustomer(ctx context.Context, tx store.Tx, a Actor, in api.NewCustomer) (api.Customer, error) {
	name := strings.Join(strings.Fields(in.Name), " ")
	if name == "" {
		return api.Customer{}, refusal.Input("name", "a customer needs a name")
	}
	p := db.AddCustomerParams{Name: name}
	if in.Email != "" {
		address, err := mail.ParseAddress(in.Email)
		if err != nil || address.Address != in.Email {
			return api.Customer{}, refusal.Input("email", "%q is not a mail address; write it as name@domain", in.Email)
		}
		p.Email = &in.Email
	}
	row, err := tx.AddCustomer(ctx, p)
	if store.Violated(err) == "customers_name" {
		return api.Customer{}, refusal.New(refusal.NameTaken, "there is a customer %q already", name).On("name")
	}
	if err != nil {
		return api.Customer{}, err
	}
	out := api.Customer{ID: row.ID, Name: row.Name, Email: in.Email}
	return out, record(ctx, tx, a, "customer.add", "customer "+row.Name, nil, out)
}

// Customers returns a page of customers in the order of their names.
func (s *Service) Customers(ctx context.Context, search, after string, most int) (api.CustomerPage, error) {
	page := api.CustomerPage{Customers: []api.Customer{}}
	rows, err := s.store.Customers(ctx, db.CustomersParams{After: after, Search: escapeLike(search), Most: int32(most + 1)})
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(strings.ToLower(rows[most-1].Name))
	}
	for _, row := range rows {
		c := api.Customer{ID: row.ID, Name: row.Name, Accounts: row.Accounts}
		if row.Email != nil {
			c.Email = *row.Email
		}
		page.Customers = append(page.Customers, c)
	}
	return page, nil
}
