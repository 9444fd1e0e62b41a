package httpapi

import (
	"context"
	"net/http"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/mail"
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
	registerChange(a, route{id: "add-mailboxes", method: http.MethodPost, path: "/accounts/{account}/mailboxes/many",
		summary: "Add many mailboxes, all of them or none", permission: rights.MailChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewMailboxes
		}) (api.MailboxesAdded, error) {
			return a.service.Mail.AddMailboxes(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-mailbox", method: http.MethodPatch,
		path: "/accounts/{account}/mailboxes/{mailbox}",
		summary: "Change a mailbox: its password, size, what it passes on, how much is " +
			"sent", permission: rights.MailChange, tag: tag,
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
	register(a, route{id: "take-profile", method: http.MethodGet,
		path:    "/accounts/{account}/mailboxes/{mailbox}/profile",
		summary: "Take a file by which telephones set up a mailbox", permission: rights.AccountsRead, tag: tag,
		description: "It has no password: the telephone asks for that."},
		func(ctx context.Context, in *MailboxPath) (*profileFile, error) {
			text, err := a.service.Mail.Profile(ctx, actor(ctx), in.Account, in.Mailbox)
			return newProfileFile(text), err
		})
	registerChange(a, route{id: "add-program-password", method: http.MethodPost,
		path: "/accounts/{account}/mailboxes/{mailbox}/passwords", summary: "Make a further password, for one program",
		permission: rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailboxPath
			Previewable
			Body api.NewProgramPassword
		}) (api.ProgramPasswordAdded, error) {
			return a.service.Mail.AddProgramPassword(ctx, who, in.Account, in.Mailbox, in.Body)
		})
	registerChange(a, route{id: "remove-program-password", method: http.MethodDelete,
		path: "/accounts/{account}/mailboxes/{mailbox}/passwords/{program}", summary: "Take a program's password away",
		permission: rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			MailboxPath
			Previewable
			Program string `path:"program" maxLength:"240" doc:"What it is for."`
		}) (api.Started, error) {
			return a.service.Mail.RemoveProgramPassword(ctx, who, in.Account, in.Mailbox, in.Program)
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

func (a *API) messageRoutes() {
	const tag = "Mail"
	register(a, route{id: "rehearse-mail", method: http.MethodGet, path: "/accounts/{account}/mail-rehearsal",
		summary:    "Look at the mail of a domain as others do before they take a message",
		permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *struct {
			AccountPath
			Domain string `query:"domain" required:"true" maxLength:"253"`
		}) (*struct{ Body api.MailRehearsal }, error) {
			out, err := a.service.Mail.Rehearse(ctx, actor(ctx), in.Account, in.Domain)
			return &struct{ Body api.MailRehearsal }{out}, err
		})
	register(a, route{id: "list-messages", method: http.MethodGet, path: "/messages",
		summary: "List what became of messages", permission: rights.MessagesRead, tag: tag,
		description: "Newest first, one for each recipient. Servers are asked for what is new with the first page. " +
			"It is known for 30 days."},
		func(ctx context.Context, in *struct {
			Page
			Account   string    `query:"account" maxLength:"300" doc:"Only those from and to this account."`
			Sender    string    `query:"sender" maxLength:"320" doc:"Only those from this address."`
			Recipient string    `query:"recipient" maxLength:"320" doc:"Only those to this address."`
			MessageID string    `query:"message_id" maxLength:"998" doc:"Only those with this Message-ID."`
			Outcome   string    `query:"outcome" enum:",delivered,forwarded,kept,waiting,failed,refused" doc:"Only those."`
			Since     time.Time `query:"since" doc:"Only those that came since then."`
			Until     time.Time `query:"until" doc:"Only those that came before then."`
		}) (*struct{ Body api.MessagePage }, error) {
			before, err := messageCursor(in.Cursor)
			if err != nil {
				return nil, err
			}
			f := mail.MessageFilter{Account: in.Account, Sender: in.Sender, Recipient: in.Recipient,
				MessageID: in.MessageID, Outcome: in.Outcome}
			if !in.Since.IsZero() {
				f.Since = &in.Since
			}
			if !in.Until.IsZero() {
				f.Until = &in.Until
			}
			page, err := a.service.Mail.Messages(ctx, actor(ctx), f, before, in.Limit)
			return &struct{ Body api.MessagePage }{page}, err
		})
	register(a, route{id: "show-message", method: http.MethodGet, path: "/messages/{message}",
		summary: "Show what became of a message for one recipient", permission: rights.MessagesRead, tag: tag},
		func(ctx context.Context, in *struct {
			ID int64 `path:"message"`
		}) (*struct{ Body api.Message }, error) {
			m, err := a.service.Mail.Message(ctx, actor(ctx), in.ID)
			return &struct{ Body api.Message }{m}, err
		})
	register(a, route{id: "show-sending", method: http.MethodGet, path: "/sending",
		summary:    "Tell what became of what was sent to others within a day, by account and by destination",
		permission: rights.ServersRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.Sending }, error) {
			sending, err := a.service.Mail.Sending(ctx)
			return &struct{ Body api.Sending }{sending}, err
		})
	register(a, route{id: "show-queue", method: http.MethodGet, path: "/queue", summary: "List the messages that wait",
		permission: rights.MessagesRead, tag: tag, description: "Oldest first, as the servers have them at this " +
			"moment."},
		func(ctx context.Context, in *struct {
			Account string `query:"account" maxLength:"300" doc:"Only those of this account."`
			Server  string `query:"server" maxLength:"31" doc:"Only those on this server."`
		}) (*struct{ Body api.Queue }, error) {
			queue, err := a.service.Mail.Queue(ctx, actor(ctx), in.Account, in.Server)
			return &struct{ Body api.Queue }{queue}, err
		})
	registerChange(a, route{id: "change-queue", method: http.MethodPost, path: "/queue",
		summary: "Try messages again, hold, release or remove them", permission: rights.QueueChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.QueueChange
		}) (api.QueueChanged, error) {
			return a.service.Mail.ChangeQueue(ctx, who, in.Body)
		})
}

// sendingRoutes are about accounts whose mail is stopped.
func (a *API) sendingRoutes() {
	registerChange(a, route{id: "suspend-mail", method: http.MethodPost, path: "/accounts/{account}/suspend-mail",
		summary:    "Suspend sending, receiving or both of an account, while its sites go on",
		permission: rights.AccountsSuspend, tag: "Mail", status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.SuspendMail
		}) (api.Started, error) {
			return a.service.Mail.SuspendMail(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "resume-mail", method: http.MethodPost, path: "/accounts/{account}/resume-mail",
		summary: "End a suspension of mail", permission: rights.AccountsSuspend, tag: "Mail",
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
		}) (api.Started, error) {
			return a.service.Mail.ResumeMail(ctx, who, in.Account)
		})
	registerChange(a, route{id: "release-sending", method: http.MethodPost, path: "/accounts/{account}/release-sending",
		summary:    "Have an account send again that was stopped, as too much of it came back",
		permission: rights.SendingRelease, tag: "Mail"},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
		}) (api.SendingReleased, error) {
			return a.service.Mail.ReleaseSending(ctx, who, in.Account)
		})
}

// MailAddressPath is how an address is named in a path.
type MailAddressPath struct {
	AccountPath
	Address string `path:"address" maxLength:"320" doc:"What goes before the @ is enough where that is clear."`
}

// messageCursor reads where a page of messages begins.
func messageCursor(text string) (before mail.MessageCursor, err error) {
	return before, usecase.ReadCursor(text, &before.Came, &before.ID)
}
