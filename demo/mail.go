package demo

import (
	"context"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/client"
)

// mailboxes are those of the island, by account. Nobody has their passwords: who wants to look into
// one gives it another.
var mailboxes = map[string][]api.NewMailbox{
	"coop": {{Address: "hosting@ternisland.example"}, {Address: "office@ternisland.example"}},
	// Stored here, and passed on to a telephone as well.
	"trust": {{Address: "keeper@lighthousetrust.example", ForwardTo: []string{"keeper@harbourmail.test"}}},
}

// addresses are those beside them.
var addresses = map[string][]api.NewMailAddress{
	"coop": {{Address: "accounts@ternisland.example", Targets: []string{"office"}},
		{Address: "committee@ternisland.example", Targets: []string{"hosting", "chair@harbourmail.test"}},
		{Address: "abuse@ternisland.example", Targets: []string{"hosting"}}},
	"trust": {{Address: "*@lighthousetrust.example", Targets: []string{"keeper"}},
		{Address: "visits@lighthousetrust.example", Targets: []string{"tours@harbourmail.test"}}},
}

// deliverTo adds the mailboxes and addresses of the island.
func deliverTo(ctx context.Context, c *client.Client) error {
	for account, list := range mailboxes {
		for _, box := range list {
			if err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/mailboxes", box, nil)); err != nil {
				return fmt.Errorf("mailbox %s: %w", box.Address, err)
			}
		}
	}
	for account, list := range addresses {
		for _, address := range list {
			if err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/addresses", address, nil)); err != nil {
				return fmt.Errorf("address %s: %w", address.Address, err)
			}
		}
	}
	return nil
}
