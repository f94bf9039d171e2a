package httpapi

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
)

// WebhookPath names a webhook; exported, since only then can other inputs embed it.
type WebhookPath struct {
	ProjectPath
	Name string `path:"name" maxLength:"63"`
}

// notices registers who is told of what, and the badge and the feed of a project.
func notices(sv *server, a huma.API, r chi.Router) {
	const hooks = "/projects/{project}/webhooks"
	operation(a, http.MethodGet, hooks, "list-webhooks", "List whom programs are told by of what happens",
		func(ctx context.Context, in *ProjectPath) ([]api.Webhook, error) {
			return sv.s.Notify.List(ctx, in.Project)
		})
	operation(a, http.MethodPut, hooks+"/{name}", "set-webhook", "Tell a program of what happens",
		func(ctx context.Context, in *struct {
			WebhookPath
			Body api.NewWebhook
		}) (api.Webhook, error) {
			return sv.s.Notify.Set(ctx, in.Project, in.Name, in.Body)
		})
	command(a, http.MethodDelete, hooks+"/{name}", "drop-webhook", "Tell it no more",
		func(ctx context.Context, in *WebhookPath) error { return sv.s.Notify.Drop(ctx, in.Project, in.Name) })
	command(a, http.MethodPost, hooks+"/{name}/try", "try-webhook", "Send something, to see whether it arrives",
		func(ctx context.Context, in *WebhookPath) error { return sv.s.Notify.Try(ctx, in.Project, in.Name) })
	operation(a, http.MethodGet, hooks+"/{name}/messages", "list-messages", "What was sent, with what was answered",
		func(ctx context.Context, in *struct {
			WebhookPath
			api.MessageFilter
		}) (api.MessagePage, error) {
			return sv.s.Notify.Messages(ctx, in.Project, in.Name, in.MessageFilter)
		})
	command(a, http.MethodPost, hooks+"/{name}/messages/{id}/again", "resend-message", "Send a message again",
		func(ctx context.Context, in *struct {
			WebhookPath
			ID record.MessageID `path:"id" minimum:"1"`
		}) error {
			return sv.s.Notify.Again(ctx, in.Project, in.Name, in.ID)
		})
	operation(a, http.MethodGet, "/wishes", "wishes", "What I am told of by mail",
		func(ctx context.Context, _ *none) (api.Wishes, error) { return sv.s.Notify.Wishes(ctx) })
	operation(a, http.MethodPut, "/wishes", "set-wish", "Choose what I am told of",
		func(ctx context.Context, in *struct{ Body api.Wish }) (api.Wishes, error) {
			return sv.s.Notify.Wish(ctx, in.Body)
		})
	command(a, http.MethodDelete, "/wishes", "drop-wish", "Take a choice back",
		func(ctx context.Context, in *struct {
			Project string `query:"project" maxLength:"63" doc:"The project it is of; absent: all"`
		}) error {
			return sv.s.Notify.Unwish(ctx, in.Project)
		})
	operation(a, http.MethodPost, "/projects/{project}/feed", "feed", "Where the project's badge and feed are",
		func(ctx context.Context, in *struct {
			ProjectPath
			Body struct {
				// Give them another address; the one before leads nowhere any more.
				Anew bool `json:"anew,omitempty"`
			}
		}) (api.Feed, error) {
			return sv.s.Notify.Feed(ctx, in.Project, in.Body.Anew)
		})
	r.Get("/f/{key}/badge.svg", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		text, err := sv.s.Notify.Badge(r.Context(), chi.URLParam(r, "key"), q.Get("pipeline"), q.Get("branch"))
		fed(w, r, "image/svg+xml", text, err)
	})
	r.Get("/f/{key}/feed.atom", func(w http.ResponseWriter, r *http.Request) {
		text, err := sv.s.Notify.Atom(r.Context(), chi.URLParam(r, "key"))
		fed(w, r, "application/atom+xml; charset=utf-8", text, err)
	})
}

// fed answers with what somebody reads again and again. It is shown in others' pages, so nothing in it may run.
func fed(w http.ResponseWriter, r *http.Request, kind string, text []byte, err error) {
	switch {
	case errors.Is(err, ground.ErrNotFound):
		http.NotFound(w, r)
		return
	case err != nil:
		http.Error(w, "it cannot be read just now", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("X-Robots-Tag", "noindex")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
}
