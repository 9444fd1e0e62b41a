package rollout

import (
	"context"
	"fmt"

	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/store/db"
)

// A part adds what its rows say to the manifests of an account: to that of the server with its
// home, or to that of any other server, which is told of the account then, too.
func ExamplePart() {
	const home, mailServer = 1, 2
	lists := Part{Name: "lists",
		Fill: func(_ context.Context, _ *db.Queries, _ entitlement.Entitlement, m *Manifests) error {
			m.Home().Shell = true
			m.On(mailServer).Suspended = true
			return nil
		}}
	manifests := newManifests(db.Account{ID: 7, SignInName: "ferries", ServerID: home, Revision: 3}, nil)
	manifests.Home().Wanted = manifest.Present
	if err := lists.Fill(context.Background(), nil, entitlement.Entitlement{}, manifests); err != nil {
		panic(err)
	}
	for _, server := range manifests.servers {
		m := manifests.wanted[server]
		fmt.Println(server, m.SignInName, m.Revision, m.Wanted, m.Elsewhere)
	}
	// Output:
	// 1 ferries 3 present false
	// 2 ferries 3 present true
}
