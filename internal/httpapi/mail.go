package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// MailboxPath is how a mailbox is named in a path.
type MailboxPath struct {
	AccountPath
	Mailbox string `path:"mailbox" maxLength:"320" doc:"Its address; what goes before the @ is enough where that is clear."`
}

func (a *API) mailRoutes() {
	const tag = "Mail"
	register(a, route{id: "list-mailboxes", method: http.MethodGet, path: "/accounts/{account}/mailboxes",
		summary: "List the mailboxes", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.MailboxList }, error) {
			list, err := a.service.Mail.Mailboxes(ctx, actor(ctx), in.Account)
			return &struct{ Body api.MailboxList }{list}, err
		})
	registerChange(a, route{id: "add-mailbox", method: http.MethodPost, path: "/accounts/{account}/mailboxes",
		summary: "Add a mailbox", permission: rights.MailChange, tag: tag, status: http.StatusAccepted,
		description: "The first one decides on which server the mail of the account is."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewMailbox
		}) (api.MailboxChanged, error) {
			return a.service.Mail.AddMailbox(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-mailbox", method: http.MethodPatch,
		path:    "/accounts/{account}/mailboxes/{mailbox}",
		summary: "Change a mailbox: its password, size, what it passes on, how much is sent", permission: rights.MailChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailboxPath
			Versioned
			Previewable
			Body api.MailboxChange
		}) (api.MailboxChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.MailboxChanged{}, err
			}
			return a.service.Mail.ChangeMailbox(ctx, who, in.Account, in.Mailbox, version, in.Body)
		})
	registerChange(a, route{id: "remove-mailbox", method: http.MethodDelete,
		path:    "/accounts/{account}/mailboxes/{mailbox}",
		summary: "Remove a mailbox with all messages in it", permission: rights.MailChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailboxPath
			Previewable
		}) (api.Started, error) {
			return a.service.Mail.RemoveMailbox(ctx, who, in.Account, in.Mailbox)
		})
	register(a, route{id: "list-mail-addresses", method: http.MethodGet, path: "/accounts/{account}/addresses",
		summary: "List the addresses beside those of mailboxes", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.MailAddressList }, error) {
			list, err := a.service.Mail.Addresses(ctx, actor(ctx), in.Account)
			return &struct{ Body api.MailAddressList }{list}, err
		})
	registerChange(a, route{id: "add-mail-address", method: http.MethodPost, path: "/accounts/{account}/addresses",
		summary: "Add an address that leads to others", permission: rights.MailChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewMailAddress
		}) (api.MailAddressChanged, error) {
			return a.service.Mail.AddAddress(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-mail-address", method: http.MethodPatch,
		path: "/accounts/{account}/addresses/{address}", summary: "Change where an address leads",
		permission: rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailAddressPath
			Versioned
			Previewable
			Body api.MailAddressChange
		}) (api.MailAddressChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.MailAddressChanged{}, err
			}
			return a.service.Mail.ChangeAddress(ctx, who, in.Account, in.Address, version, in.Body)
		})
	registerChange(a, route{id: "remove-mail-address", method: http.MethodDelete,
		path: "/accounts/{account}/addresses/{address}", summary: "Remove an address",
		description: "A role address (RFC 2142) leads again to where it did at first.",
		permission:  rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailAddressPath
			Previewable
		}) (api.Started, error) {
			return a.service.Mail.RemoveAddress(ctx, who, in.Account, in.Address)
		})
	register(a, route{id: "trace-mail-address", method: http.MethodGet, path: "/accounts/{account}/mail-path",
		summary: "Tell what would become of a message to an address", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *struct {
			AccountPath
			Address string `query:"address" required:"true" maxLength:"320"`
		}) (*struct{ Body api.MailPath }, error) {
			path, err := a.service.Mail.MailPath(ctx, actor(ctx), in.Account, in.Address)
			return &struct{ Body api.MailPath }{path}, err
		})
}

// MailAddressPath is how an address is named in a path.
type MailAddressPath struct {
	AccountPath
	Address string `path:"address" maxLength:"320" doc:"What goes before the @ is enough where that is clear."`
}
