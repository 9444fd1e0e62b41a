package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// holderCookie is the session of the holder of a mailbox. It is sent to their own routes alone.
const (
	holderCookie = "victualler_mailbox"
	holderPath   = Base + "/mailbox"
)

// profileFile is a file by which telephones set up a mailbox.
type profileFile struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func newProfileFile(text []byte) *profileFile {
	return &profileFile{mail.ProfileType, `attachment; filename="mailbox.mobileconfig"`, text}
}

func (a *API) holderRoutes() {
	const tag = "Own mailbox"
	cookie := func(token string) http.Cookie {
		c := a.cookie(token)
		c.Name, c.Path = holderCookie, holderPath
		return c
	}
	type begun struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      api.MailboxSession
	}
	register(a, route{id: "start-mailbox-session", method: http.MethodPost, path: "/mailbox/session",
		summary: "Sign in to a mailbox", permission: rights.Public, tag: tag,
		description: "With its own password. The answer sets a cookie for what is below /mailbox alone, or holds a " +
			"bearer token if one was asked for."},
		func(ctx context.Context, in *struct{ Body api.MailboxSignIn }) (*begun, error) {
			session, err := a.service.Mail.SignIn(ctx, actor(ctx), in.Body)
			if err != nil {
				return nil, err
			}
			out := &begun{Body: session}
			if !in.Body.Token {
				out.SetCookie, out.Body.Token = cookie(session.Token), ""
			}
			return out, nil
		})
	type ended struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	register(a, route{id: "end-mailbox-session", method: http.MethodDelete, path: "/mailbox/session",
		summary: "Sign out of a mailbox", permission: rights.OwnMailbox, tag: tag, status: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*ended, error) {
			gone := cookie("")
			gone.MaxAge = -1
			return &ended{gone}, a.service.Mail.SignOut(ctx, actor(ctx))
		})
	register(a, route{id: "show-own-mailbox", method: http.MethodGet, path: "/mailbox",
		summary: "Show one's own mailbox", permission: rights.OwnMailbox, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.OwnMailbox }, error) {
			own, err := a.service.Mail.OwnMailbox(ctx, actor(ctx))
			return &struct{ Body api.OwnMailbox }{own}, err
		})
	register(a, route{id: "take-own-profile", method: http.MethodGet, path: "/mailbox/profile",
		summary: "Take a file by which telephones set up one's own mailbox", permission: rights.OwnMailbox, tag: tag},
		func(ctx context.Context, _ *struct{}) (*profileFile, error) {
			text, err := a.service.Mail.OwnProfile(ctx, actor(ctx))
			return newProfileFile(text), err
		})
	register(a, route{id: "list-own-messages", method: http.MethodGet, path: "/mailbox/messages",
		summary: "List what became of one's own messages", permission: rights.OwnMailbox, tag: tag,
		description: "Of those that were sent with the mailbox's sign-in, and of those to it; newest first, one " +
			"for each recipient. It is known for 30 days."},
		func(ctx context.Context, in *struct{ Page }) (*struct{ Body api.MessagePage }, error) {
			before, err := messageCursor(in.Cursor)
			if err != nil {
				return nil, err
			}
			page, err := a.service.Mail.OwnMessages(ctx, actor(ctx), before, in.Limit)
			return &struct{ Body api.MessagePage }{page}, err
		})
	register(a, route{id: "trace-own-address", method: http.MethodGet, path: "/mailbox/path",
		summary: "Tell what would become of a message to one's own address", permission: rights.OwnMailbox, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.MailPath }, error) {
			path, err := a.service.Mail.OwnPath(ctx, actor(ctx))
			return &struct{ Body api.MailPath }{path}, err
		})
	register(a, route{id: "rehearse-own-mail", method: http.MethodGet, path: "/mailbox/rehearsal",
		summary:    "Look at the mail of one's own domain as others do before they take a message",
		permission: rights.OwnMailbox, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.MailRehearsal }, error) {
			out, err := a.service.Mail.RehearseOwn(ctx, actor(ctx))
			return &struct{ Body api.MailRehearsal }{out}, err
		})
	registerChange(a, route{id: "change-own-mailbox", method: http.MethodPatch, path: "/mailbox",
		summary: "Change one's own mailbox: password, absence, passing on, filters", permission: rights.OwnMailbox,
		tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Versioned
			Previewable
			Body api.OwnMailboxChange
		}) (api.MailboxChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.MailboxChanged{}, err
			}
			return a.service.Mail.ChangeOwnMailbox(ctx, who, version, in.Body)
		})
	registerChange(a, route{id: "add-own-password", method: http.MethodPost, path: "/mailbox/passwords",
		summary: "Make a further password of one's own mailbox, for one program", permission: rights.OwnMailbox,
		tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewProgramPassword
		}) (api.ProgramPasswordAdded, error) {
			return a.service.Mail.AddOwnPassword(ctx, who, in.Body)
		})
	registerChange(a, route{id: "remove-own-password", method: http.MethodDelete, path: "/mailbox/passwords/{program}",
		summary: "Take a program's password away from one's own mailbox", permission: rights.OwnMailbox, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Program string `path:"program" maxLength:"240" doc:"What it is for."`
		}) (api.Started, error) {
			return a.service.Mail.RemoveOwnPassword(ctx, who, in.Program)
		})
}
