package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

func (a *API) settingsRoutes() {
	const tag = "Settings"
	register(a, route{id: "show-settings", method: http.MethodGet, path: "/settings",
		summary: "Show the installation's settings", permission: rights.SettingsRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct {
			ETag string `header:"ETag"`
			Body api.Settings
		}, error) {
			s, err := a.service.Settings.Settings(ctx)
			return &struct {
				ETag string `header:"ETag"`
				Body api.Settings
			}{etag(s.Version), s}, err
		})
	registerChange(a, route{id: "change-settings", method: http.MethodPatch, path: "/settings",
		summary: "Change the installation's settings", permission: rights.SettingsChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Versioned
			Previewable
			Body api.SettingsChange
		}) (api.Settings, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Settings{}, err
			}
			return a.service.Settings.ChangeSettings(ctx, who, version, in.Body)
		})
	register(a, route{id: "test-mail", method: http.MethodPost, path: "/settings/test-mail",
		summary: "Send a message to see whether mail goes out", permission: rights.SettingsChange, tag: tag,
		status:      http.StatusNoContent,
		description: "Answers when the mail server has taken it, with what it says if it has not."},
		func(ctx context.Context, in *struct{ Body api.MailTest }) (*struct{}, error) {
			return nil, a.service.Notify.TestMail(ctx, actor(ctx), in.Body)
		})
}
