package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// TesterPath names a tester; exported, since only then can other inputs embed it.
type TesterPath struct {
	Project string          `path:"project" maxLength:"63"`
	ID      record.TesterID `path:"id" minimum:"1"`
}

// testers registers people who try releases, and what they say.
func testers(sv *server, a huma.API, r chi.Router) {
	const all = "/projects/{project}/testers"
	operation(a, http.MethodGet, all, "list-testers", "List who tries releases", func(ctx context.Context, in *struct {
		ProjectPath
		api.TesterFilter
	}) (api.TesterPage, error) {
		return sv.s.Testers.List(ctx, in.Project, in.TesterFilter)
	})
	operation(a, http.MethodPost, all, "add-testers", "Put people into a group of testers",
		func(ctx context.Context, in *struct {
			ProjectPath
			Body api.NewTesters
		}) (api.AddedTesters, error) {
			return sv.s.Testers.Add(ctx, in.Project, in.Body)
		})
	command(a, http.MethodDelete, all+"/{id}", "drop-tester", "Take somebody out of a group, or out of the project",
		func(ctx context.Context, in *struct {
			TesterPath
			Group string `query:"group" maxLength:"63" doc:"the group; absent: all of them, and the link leads nowhere"`
		}) error {
			return sv.s.Testers.Drop(ctx, in.Project, in.ID, in.Group)
		})
	operation(a, http.MethodPost, all+"/{id}/link", "renew-tester-link",
		"Give somebody another link; the one before leads nowhere any more",
		func(ctx context.Context, in *TesterPath) (api.TesterLink, error) {
			return sv.s.Testers.NewLink(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodGet, "/projects/{project}/test-devices", "list-test-devices",
		"List the devices that a provisioning profile has to name",
		func(ctx context.Context, in *ProjectPath) ([]api.TestDevice, error) {
			return sv.s.Testers.Devices(ctx, in.Project)
		})
	operation(a, http.MethodGet, "/projects/{project}/releases/{app}/{name}/tried", "release-tried",
		"How a release fares with testers, and what they say", func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
		}) (api.Tried, error) {
			return sv.s.Testers.Tried(ctx, in.Project, in.ReleasePath)
		})
	const picture = Prefix + "/projects/{project}/words/{id}/picture"
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodGet, Path: picture,
		OperationID: "word-picture", Summary: "The picture that came with a tester's word",
		Parameters: []*huma.Param{{Name: "project", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "integer"}}},
		Responses: map[string]*huma.Response{"200": {Description: "A JPEG",
			Content: map[string]*huma.MediaType{"image/jpeg": {}}}}})
	r.Get(picture, func(w http.ResponseWriter, r *http.Request) {
		picture, err := sv.s.Testers.Picture(r.Context(), chi.URLParam(r, "project"), number[record.WordID](r, "id"))
		if err != nil {
			fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "image/jpeg")
		w.Header().Set("Cache-Control", "private, max-age=86400, immutable")
		_, _ = w.Write(picture)
	})
	trying(sv, r)
}
