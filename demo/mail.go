package demo

import (
	"context"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/client"
)

// mailboxes are those of the island, by account. Nobody has their passwords: who wants to look into
// one gives it another.
var mailboxes = map[string][]string{
	"coop":  {"hosting@ternisland.example", "office@ternisland.example"},
	"trust": {"keeper@lighthousetrust.example"},
}

// deliverTo adds the mailboxes of the island.
func deliverTo(ctx context.Context, c *client.Client) error {
	for account, list := range mailboxes {
		for _, address := range list {
			err := ignoreExisting(c.Post(ctx, "/accounts/"+account+"/mailboxes", api.NewMailbox{Address: address}, nil))
			if err != nil {
				return fmt.Errorf("mailbox %s: %w", address, err)
			}
		}
	}
	return nil
}
