package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

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
func publications(sv *server, a huma.API) {
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
