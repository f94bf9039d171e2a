package httpapi

import (
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// OutletPath names an outlet; exported, since only then can other inputs embed it.
type OutletPath struct {
	Project string `path:"project" maxLength:"63"`
	Name    string `path:"name" pattern:"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"`
}

// PublicationPath names a publication.
type PublicationPath struct {
	Project string               `path:"project" maxLength:"63"`
	ID      record.PublicationID `path:"id" minimum:"1"`
}

// publications registers outlets, and releases on their way to them.
func publications(sv *server, a huma.API, r chi.Router) {
	news(sv, a, r)
	operation(a, http.MethodGet, "/projects/{project}/outlets", "list-outlets", "List the places where releases can go",
		func(ctx context.Context, in *ProjectPath) ([]api.Outlet, error) {
			return sv.s.Publish.Outlets(ctx, in.Project)
		})
	operation(a, http.MethodPut, "/projects/{project}/outlets/{name}", "set-outlet", "Make an outlet, or change it",
		func(ctx context.Context, in *struct {
			OutletPath
			Body api.NewOutlet
		}) (api.Outlet, error) {
			return sv.s.Publish.SetOutlet(ctx, in.Project, in.Name, in.Body)
		})
	command(a, http.MethodDelete, "/projects/{project}/outlets/{name}", "drop-outlet",
		"Remove an outlet to which nothing ever went",
		func(ctx context.Context, in *OutletPath) error {
			return sv.s.Publish.DropOutlet(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodPost, "/projects/{project}/outlets/{name}/try", "try-outlet", "See whether an outlet answers",
		func(ctx context.Context, in *OutletPath) (api.OutletTried, error) {
			return sv.s.Publish.TryOutlet(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodGet, "/projects/{project}/publications", "list-publications",
		"List releases on their way to outlets, newest first", func(ctx context.Context, in *struct {
			ProjectPath
			api.PublicationFilter
		}) (api.PublicationPage, error) {
			return sv.s.Publish.List(ctx, in.Project, in.PublicationFilter)
		})
	const release = "/projects/{project}/releases/{app}/{name}/publications"
	operation(a, http.MethodPost, release, "publish", "Bring a release to an outlet",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
			Body api.NewPublication
		}) (api.Publication, error) {
			return sv.s.Publish.ByHand(ctx, in.Project, in.ReleasePath, in.Body)
		})
	operation(a, http.MethodPost, release+"/plan", "plan-publication",
		"What publishing would change, and everything that is missing for it", func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
			Body api.NewPublication
		}) (api.PublicationPlan, error) {
			return sv.s.Publish.Plan(ctx, in.Project, in.ReleasePath, in.Body)
		})
	const one = "/projects/{project}/publications/{id}"
	command(a, http.MethodPost, one+"/share", "share-publication", "Give it to so many of a hundred people",
		func(ctx context.Context, in *struct {
			PublicationPath
			Body api.ShareWish
		}) error {
			return sv.s.Publish.Share(ctx, in.Project, in.ID, in.Body.Percent)
		})
	command(a, http.MethodPost, one+"/halt", "halt-publication", "Keep further people from getting it",
		func(ctx context.Context, in *PublicationPath) error { return sv.s.Publish.Halt(ctx, in.Project, in.ID) })
	command(a, http.MethodPost, one+"/withdraw", "withdraw-publication", "Take it back, wherever it is on its way",
		func(ctx context.Context, in *PublicationPath) error {
			return sv.s.Publish.Withdraw(ctx, in.Project, in.ID)
		})
}

// maxNews is the most bytes that an outlet may tell at once.
const maxNews = 64 << 10

// news registers where outlets tell that something has changed. The signature covers the very bytes of the body, so
// that it is read as it came.
func news(sv *server, a huma.API, r chi.Router) {
	const path = Prefix + "/projects/{project}/outlets/{name}/news"
	named := func(name string) *huma.Param {
		return &huma.Param{Name: name, In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}
	}
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodPost, Path: path, OperationID: "tell-news",
		Summary: "Tell that something has changed at an outlet, signed by the rules of Standard Webhooks 1.0.0; the outlet " +
			"protocol says how",
		Parameters: []*huma.Param{named("project"), named("name")},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/json": {Schema: &huma.Schema{Type: "object"}}}},
		Responses: map[string]*huma.Response{"202": {Description: "Taken as a reason to ask the outlet"}}})
	r.Post(path, func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxNews))
		if err != nil {
			writeProblem(w, huma.Error413RequestEntityTooLarge("news may have at most 64 KiB"))
			return
		}
		err = sv.s.Publish.News(r.Context(), chi.URLParam(r, "project"), chi.URLParam(r, "name"), r.Header, text)
		if err != nil {
			fail(w, r, err)
			return
		}
		w.WriteHeader(http.StatusAccepted)
	})
}
