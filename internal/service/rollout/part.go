package rollout

import (
	"context"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Part is one part of what servers hold for an account. A package whose rows end up on servers has
// one, and the list of them, in the order in which they are asked, is given to the service when it
// is made. Every function may be nil.
type Part struct {
	Name string
	// Fill adds to the manifests of an account what its rows say, in a
	// transaction that sees one moment.
	Fill func(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *Manifests) error
	// Describe adds what a server holds for all accounts together.
	Describe func(ctx context.Context, q *db.Queries, server db.Server, out *manifest.Server) error
	// Prepare does what must precede an apply of a manifest on a server.
	Prepare func(ctx context.Context, server db.Server, m manifest.Manifest) error
	// Applied writes down that a revision is in force on all servers of the account, which is
	// locked. Latest says that nothing newer is wanted.
	Applied func(ctx context.Context, tx store.Tx, account db.Account, latest bool) error
	// Failed writes down that a revision was refused; the servers are
	// as before. The account is locked.
	Failed func(ctx context.Context, tx store.Tx, accountID, revision int64) error
	// Swept writes down what a sweep of a server has found, beside what is asked of every part.
	Swept func(ctx context.Context, tx store.Tx, server db.Server, sweep agentlink.Sweep) error
	// Closed removes the rows of an account that is closed, and of
	// which servers hold nothing any more.
	Closed func(ctx context.Context, tx store.Tx, accountID int64) error
}

// Manifests are what the servers of one account are to hold, while its parts fill them.
type Manifests struct {
	home    int64
	empty   manifest.Manifest
	servers []int64 // in the order of their applies, home first
	wanted  map[int64]*manifest.Manifest
}

// newManifests begins with nothing wanted on the home and on each other
// server that holds something.
func newManifests(account db.Account, others []db.AccountServer) *Manifests {
	m := &Manifests{home: account.ServerID, wanted: map[int64]*manifest.Manifest{},
		empty: nothing(account)}
	m.add(account.ServerID)
	for _, row := range others {
		m.add(row.ServerID)
	}
	return m
}

// nothing is the manifest of a server that holds nothing of an account.
func nothing(account db.Account) manifest.Manifest {
	return manifest.Manifest{AccountID: account.ID, SignInName: account.SignInName, Revision: account.Revision,
		Wanted: manifest.Absent, Closed: isClosed(account)}
}

// isClosed reports whether an account is to be on no server any longer.
func isClosed(account db.Account) bool {
	return account.State == "closing" || account.State == "closed"
}

func (m *Manifests) add(server int64) {
	if m.wanted[server] == nil {
		empty := m.empty
		m.wanted[server] = &empty
		m.servers = append(m.servers, server)
	}
}

// Home is the manifest of the server with the account's home.
func (m *Manifests) Home() *manifest.Manifest { return m.wanted[m.home] }

// On is the manifest of any server, which from now on holds something of the account.
func (m *Manifests) On(server int64) *manifest.Manifest {
	m.add(server)
	wanted := m.wanted[server]
	if wanted.Wanted == manifest.Absent {
		wanted.Wanted, wanted.Elsewhere = manifest.Present, true
	}
	return wanted
}
