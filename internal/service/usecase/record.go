package usecase

import (
	"context"
	"encoding/json"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/hosting/actions"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Subject is what an event is about, and who may read it besides operators.
type Subject struct {
	Text string
	// account says whose it is by itself; without one, customer and reseller do.
	account, Customer, Reseller *int64
}

func About(format string, args ...any) Subject { return Subject{Text: fmt.Sprintf(format, args...)} }

// AboutAccount is an account as the subject of an event.
func AboutAccount(a db.Account) Subject {
	return Subject{Text: fmt.Sprintf("account %d %s", a.ID, a.SignInName), account: &a.ID}
}

// Of names the reseller that the subject belongs to; nil is the operator's own.
func (s Subject) Of(reseller *int64) Subject {
	s.Reseller = reseller
	return s
}

// Record writes an event. Before and after are what changed, without
// secrets; nil where there is none.
func Record(ctx context.Context, tx store.Tx, a Actor, action string, of Subject, before, after any) error {
	p := db.AddEventParams{Actor: a.Name, Address: a.Address, Request: a.Request, Action: action, Subject: of.Text,
		AccountID: of.account, CustomerID: of.Customer, ResellerID: of.Reseller}
	if a.PersonID != 0 {
		p.PersonID = &a.PersonID
	}
	if a.OnBehalf != "" {
		p.OnBehalf = &a.OnBehalf
	}
	for _, side := range []struct {
		to *[]byte
		v  any
	}{{&p.Before, before}, {&p.After, after}} {
		if side.v == nil {
			continue
		}
		text, err := json.Marshal(side.v)
		if err != nil {
			return err
		}
		*side.to = text
	}
	if a.Preview != nil {
		a.Preview.records = append(a.Preview.records, api.Record{Action: action,
			Title:   a.SayPlain(actions.Title(action)),
			Subject: a.SaySubject(of.Text),
			Fields:  a.ChangedFields(p.Before, p.After)})
	}
	return tx.AddEvent(ctx, p)
}

// AboutCustomer is a customer as the subject of an event.
func AboutCustomer(row db.Customer) Subject {
	return Subject{Text: fmt.Sprintf("customer %d %s", row.ID, row.Name), Customer: &row.ID, Reseller: row.ResellerID}
}

// AboutPerson is a person as the subject of an event.
func AboutPerson(person db.Person) Subject {
	return Subject{Text: person.Role + " " + person.Name, Customer: person.CustomerID, Reseller: person.ResellerID}
}

// AboutReseller is a reseller as the subject of an event.
func AboutReseller(row db.Reseller) Subject { return About("reseller %s", row.Name).Of(&row.ID) }
