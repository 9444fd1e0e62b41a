package httpapi

import (
	"context"
	"net/http"

	"github.com/go-chi/chi/v5"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// ListPath is how a distribution list is named in a path.
type ListPath struct {
	AccountPath
	List string `path:"list" maxLength:"320" doc:"Its address; what goes before the @ is enough where that is clear."`
}

func (a *API) listRoutes() {
	const tag = "Mail"
	register(a, route{id: "list-distribution-lists", method: http.MethodGet, path: "/accounts/{account}/lists",
		summary: "List the distribution lists", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.DistributionLists }, error) {
			list, err := a.service.Mail.Lists(ctx, actor(ctx), in.Account)
			return &struct{ Body api.DistributionLists }{list}, err
		})
	registerChange(a, route{id: "add-distribution-list", method: http.MethodPost, path: "/accounts/{account}/lists",
		summary: "Add a distribution list", permission: rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewDistributionList
		}) (api.DistributionListChanged, error) {
			return a.service.Mail.AddList(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-distribution-list", method: http.MethodPatch,
		path:    "/accounts/{account}/lists/{list}",
		summary: "Change a distribution list: its name, its owners, who may send, its footer",
		status:  http.StatusAccepted, permission: rights.MailChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ListPath
			Versioned
			Previewable
			Body api.DistributionListChange
		}) (api.DistributionListChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.DistributionListChanged{}, err
			}
			return a.service.Mail.ChangeList(ctx, who, in.Account, in.List, version, in.Body)
		})
	registerChange(a, route{id: "remove-distribution-list", method: http.MethodDelete,
		path: "/accounts/{account}/lists/{list}", summary: "Remove a distribution list",
		permission: rights.MailChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ListPath
			Previewable
		}) (api.Started, error) {
			return a.service.Mail.RemoveList(ctx, who, in.Account, in.List)
		})
	register(a, route{id: "list-members", method: http.MethodGet, path: "/accounts/{account}/lists/{list}/members",
		summary: "List the members of a distribution list", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *ListPath) (*struct{ Body api.ListMembers }, error) {
			list, err := a.service.Mail.ListMembers(ctx, actor(ctx), in.Account, in.List)
			return &struct{ Body api.ListMembers }{list}, err
		})
	registerChange(a, route{id: "change-members", method: http.MethodPost,
		path:    "/accounts/{account}/lists/{list}/members",
		summary: "Add members to a distribution list and take others out of it, all of them or none",
		status:  http.StatusAccepted, permission: rights.MailChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ListPath
			Previewable
			Body api.ListMemberChange
		}) (api.ListMembersChanged, error) {
			return a.service.Mail.ChangeListMembers(ctx, who, in.Account, in.List, in.Body)
		})
	register(a, route{id: "list-held-posts", method: http.MethodGet, path: "/accounts/{account}/lists/{list}/held",
		summary: "List the messages to a distribution list that wait for an owner", permission: rights.MessagesRead,
		tag: tag},
		func(ctx context.Context, in *ListPath) (*struct{ Body api.HeldPosts }, error) {
			list, err := a.service.Mail.HeldPosts(ctx, actor(ctx), in.Account, in.List)
			return &struct{ Body api.HeldPosts }{list}, err
		})
	registerChange(a, route{id: "change-held-post", method: http.MethodPost,
		path:    "/accounts/{account}/lists/{list}/held/{post}",
		summary: "Send a message on to the members that waits for an owner, or drop it", permission: rights.QueueChange,
		tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ListPath
			Previewable
			Post string `path:"post" maxLength:"64" doc:"The name of the message."`
			Body api.HeldPostChange
		}) (api.HeldPostChanged, error) {
			return a.service.Mail.ChangeHeldPost(ctx, who, in.Account, in.List, in.Post, in.Body)
		})
	register(a, route{id: "leave-list", method: http.MethodPost, path: "/leave-list",
		summary: "Leave a distribution list, by what its member was told", permission: rights.Public, tag: tag},
		func(ctx context.Context, in *struct{ Body api.LeaveList }) (*struct{ Body api.ListLeft }, error) {
			left, err := a.service.Mail.LeaveList(ctx, in.Body.List, in.Body.Code)
			return &struct{ Body api.ListLeft }{left}, err
		})
}

// leave takes a member out of a list whose mail program asks for it at a click (RFC 8058, section
// 3.2). A person who opens the address is asked by the console first: programs that look at links
// must not take anybody out.
func (a *API) leave(w http.ResponseWriter, r *http.Request) {
	left, err := a.service.Mail.LeaveList(r.Context(), chi.URLParam(r, "list"), chi.URLParam(r, "code"))
	if refusal := usecase.RefusalIn(err); refusal != nil {
		writeProblem(w, r, refused(refusal))
		return
	}
	if err != nil {
		a.log.Error("nobody is taken out of a list", "reason", err)
		writeProblem(w, r, problem(internal, "try again later"))
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = w.Write([]byte("You have left " + left.List + ".\n")) // whoever has asked may have gone
}
