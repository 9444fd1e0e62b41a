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
		summary: "Change the password or the size of a mailbox", permission: rights.MailChange, tag: tag,
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
}
