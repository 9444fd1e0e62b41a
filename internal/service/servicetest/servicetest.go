// Package servicetest is the bench for use cases: a whole service on a PostgreSQL of its own, with
// agents that only remember what they were told, a queue that only remembers what was put in it,
// and a clock that stands still.
//
// A test makes a [Bench], adds what it needs ([Bench.Server], [Bench.Plan], [Bench.Account] …),
// calls one use case as one of the actors, and looks at the answer, the events, the previews and
// what is queued. [Bench.Work] does what is queued, as the workers of package jobs would.
package servicetest

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/seal"
	"victualler/internal/service"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/storetest"
)

// Bench is an installation under test. Its actors reach what their kind reaches.
type Bench struct {
	// URL is that of its database.
	URL string
	*service.Service
	Base   *usecase.Base
	Store  *store.Store
	Queue  *Queue
	Agents *Agents
	// Operator may do everything.
	Operator usecase.Actor

	t       testing.TB
	numbers int
	again   map[int64]int // how often jobs wanted to be done again
}

// New makes a bench with one operator and nothing else. It has few connections to the database
// ([storetest.ConnectNarrow]); for requests that race, see [Process].
func New(t testing.TB) *Bench {
	t.Helper()
	ctx := context.Background()
	url := storetest.Clone(t, "service", func(s *store.Store) {
		base, err := usecase.NewBase(ctx, s, key(t), log)
		require.NoError(t, err)
		_, _, _, err = service.Assemble(base).People.EnsureOperator(ctx)
		require.NoError(t, err)
	})
	return assemble(t, url, storetest.ConnectNarrow(t, url))
}

// Process is one more process of the installation whose database is at
// a URL, with a queue and agents of its own, and as many connections as the service has.
func Process(t testing.TB, url string) *Bench {
	t.Helper()
	return assemble(t, url, storetest.Connect(t, url))
}

func assemble(t testing.TB, url string, st *store.Store) *Bench {
	t.Helper()
	base, err := usecase.NewBase(context.Background(), st, key(t), log)
	require.NoError(t, err)
	b := &Bench{URL: url, Base: base, Store: st, Queue: &Queue{}, Agents: newAgents(), t: t}
	base.Agents, base.Queue = b.Agents, b.Queue
	b.Service = service.Assemble(base)
	b.Operator = b.as("operator")
	return b
}

var log = slog.New(slog.NewTextHandler(io.Discard, nil))

// key is the key with which secrets are sealed, the same for all
// benches, as their databases come from one.
func key(t testing.TB) *seal.Key {
	t.Helper()
	file := filepath.Join(t.TempDir(), "sealing.key")
	require.NoError(t, os.WriteFile(file, make([]byte, 32), 0o600))
	k, err := seal.LoadKey(file)
	require.NoError(t, err)
	return k
}

// as is the actor that somebody is when they have signed in.
func (b *Bench) as(name string) usecase.Actor {
	b.t.Helper()
	person, err := b.Store.PersonByName(context.Background(), name)
	require.NoError(b.t, err)
	a := usecase.Actor{PersonID: person.ID, Name: person.Name, Address: "192.0.2.1", Request: "test",
		Subject: rights.Subject{Role: rights.Role(person.Role), Duty: rights.Duty(person.Duty),
			ReadOnly: person.ReadOnly}}
	a.ResellerID, a.CustomerID = usecase.OrZero(person.ResellerID), usecase.OrZero(person.CustomerID)
	if a.ResellerID != 0 {
		row, err := b.Store.ResellerByID(context.Background(), a.ResellerID)
		require.NoError(b.t, err)
		a.Reseller = row.Name
	}
	return a
}

// Pass lets time go by: everything that is on record, but for events,
// which nobody can change, has happened that much earlier, and ends that
// much earlier. Clocks stand still, the service's and the database's.
func (b *Bench) Pass(d time.Duration) {
	b.t.Helper()
	ctx := b.t.Context()
	rows, err := b.Store.Pool.Query(ctx, `select table_name, string_agg(format('%1$I = %1$I - $1::interval', column_name), ', ')
		from information_schema.columns join information_schema.tables using (table_schema, table_name)
		where table_schema = 'public' and table_type = 'BASE TABLE' and data_type = 'timestamp with time zone'
			and table_name not like 'river%' and table_name not in ('events', 'migrations')
		group by table_name`)
	require.NoError(b.t, err)
	type table struct{ Name, Change string }
	tables, err := pgx.CollectRows(rows, pgx.RowToStructByPos[table])
	require.NoError(b.t, err)
	for _, x := range tables {
		_, err := b.Store.Pool.Exec(ctx, "update "+pgx.Identifier{x.Name}.Sanitize()+" set "+x.Change, d)
		require.NoError(b.t, err)
	}
}

// Server adds a server that has joined; without roles, a web server.
func (b *Bench) Server(label string, roles ...string) api.Server {
	b.t.Helper()
	if len(roles) == 0 {
		roles = []string{"web"}
	}
	b.numbers++
	ctx := context.Background()
	joining, err := b.Fleet.JoinServer(ctx, b.Operator, api.NewServer{Label: label,
		Address: fmt.Sprintf("127.0.1.%d:1", b.numbers), Addresses: []string{fmt.Sprintf("192.0.2.%d", 20+b.numbers)},
		Roles: roles})
	require.NoError(b.t, err)
	b.Work()
	server, err := b.Fleet.Server(ctx, joining.Server.Label)
	require.NoError(b.t, err)
	require.Equal(b.t, "joined", server.State)
	return server
}

// Plan adds an operator's plan, with 5 domains and 100M unless the limits say otherwise.
func (b *Bench) Plan(name string, limits plans.Limits, features ...plans.Feature) api.Plan {
	b.t.Helper()
	return b.PlanOf("", name, limits, features...)
}

// PlanOf adds a plan of a reseller.
func (b *Bench) PlanOf(reseller, name string, limits plans.Limits, features ...plans.Feature) api.Plan {
	b.t.Helper()
	whole := plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(5),
		plans.PHPWorkers: plans.Of(2)}
	for key, amount := range limits {
		whole[key] = amount
	}
	on := plans.Features{}
	for _, f := range features {
		on[f] = true
	}
	plan, err := b.Selling.AddPlan(context.Background(), b.Operator, api.NewPlan{Name: name, Reseller: reseller,
		Limits: whole, Features: on})
	require.NoError(b.t, err)
	return plan
}

// Reseller adds a reseller with a share and returns the actor that signs in for them.
func (b *Bench) Reseller(name, measure string, limits plans.Limits, features ...plans.Feature) usecase.Actor {
	b.t.Helper()
	on := plans.Features{}
	for _, f := range features {
		on[f] = true
	}
	_, err := b.Selling.AddReseller(context.Background(), b.Operator, api.NewReseller{Name: name, Title: name,
		Measure: measure, Limits: limits, Features: on})
	require.NoError(b.t, err)
	return b.person(api.NewPerson{Name: name + "-desk", Reseller: name})
}

// Customer adds a customer of the operator, or of a reseller, and
// returns the actor that signs in for them.
func (b *Bench) Customer(name, reseller string) usecase.Actor {
	b.t.Helper()
	customer, err := b.Selling.AddCustomer(context.Background(), b.Operator, api.NewCustomer{Name: name,
		Reseller: reseller})
	require.NoError(b.t, err)
	b.numbers++
	return b.person(api.NewPerson{Name: fmt.Sprintf("customer-%d", b.numbers), Customer: customer.ID})
}

func (b *Bench) person(in api.NewPerson) usecase.Actor {
	b.t.Helper()
	in.Activation, in.Language = "none", "en" // nobody signs in, and passwords take their time
	_, err := b.People.AddPerson(context.Background(), b.Operator, in)
	require.NoError(b.t, err)
	return b.as(in.Name)
}

// Account opens an account as an actor and has it applied.
func (b *Bench) Account(a usecase.Actor, in api.OpenAccount) api.AccountDetail {
	b.t.Helper()
	ctx := context.Background()
	opening, err := b.Accounts.OpenAccount(ctx, a, in)
	require.NoError(b.t, err)
	b.Work()
	detail, err := b.Accounts.Account(ctx, b.Operator, fmt.Sprint(opening.Account.ID))
	require.NoError(b.t, err)
	require.Equal(b.t, "active", detail.State)
	return detail
}

// Refused checks that an error is a refusal of a kind, and returns it.
func Refused(t testing.TB, kind refusal.Kind, err error) *refusal.Refusal {
	t.Helper()
	r := refusal.As(err)
	require.NotNil(t, r, "%v is no refusal", err)
	require.Equal(t, kind, r.Kind, r.Detail)
	return r
}

// Preview runs a use case as a preview and returns what it would do.
func (b *Bench) Preview(a usecase.Actor, run func(usecase.Actor) error) api.Preview {
	b.t.Helper()
	a.Preview = &usecase.Preview{}
	require.NoError(b.t, run(a))
	return a.Preview.Document()
}

// Events returns the record of an account, or of all, newest first, as "action subject".
func (b *Bench) Events(account string) []string {
	b.t.Helper()
	var list []string
	page, err := b.People.Events(context.Background(), b.Operator, eventsOf(account), 0, 100)
	require.NoError(b.t, err)
	for _, e := range page.Events {
		list = append(list, e.Action+" "+e.Subject)
	}
	return list
}

// Context is the test's.
func (b *Bench) Context() context.Context { return b.t.Context() }
