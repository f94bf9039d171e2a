package httpapi

import (
	"context"
	"io"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
)

// ProjectPath names a project; exported, since only then can other inputs embed it.
type ProjectPath struct {
	Project string `path:"project" maxLength:"63"`
}

// ProjectPage is a part of a list in a project.
type ProjectPage struct {
	ProjectPath
	api.Page
}

// maxPush is the most bytes a reported push may have: a thousand refs with long names.
const maxPush = 4 << 20

func (sv *server) projects(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/projects", "list-projects", "List projects by name, each with its latest run", func(ctx context.Context, in *struct{ api.Page }) ([]api.Project, error) {
		return sv.s.Projects(ctx, in.Page)
	})
	operation(a, http.MethodPost, "/projects", "add-project", "Register a repository", func(ctx context.Context, in *struct{ Body api.NewProject }) (api.Project, error) {
		return sv.s.AddProject(ctx, in.Body)
	})
	operation(a, http.MethodGet, "/projects/{project}", "get-project", "A project with its latest run", func(ctx context.Context, in *ProjectPath) (api.Project, error) {
		return sv.s.Project(ctx, in.Project)
	})
	operation(a, http.MethodGet, "/projects/{project}/hook-key", "get-hook-key", "The secret by which pushes are signed", func(ctx context.Context, in *ProjectPath) (api.HookKey, error) {
		return sv.s.HookKey(ctx, in.Project)
	})
	operation(a, http.MethodGet, "/projects/{project}/lendings", "list-lendings", "Projects whose jobs may read this one's source, as submodules", func(ctx context.Context, in *ProjectPath) (api.Lendings, error) {
		return sv.s.Lendings(ctx, in.Project)
	})
	operation(a, http.MethodPut, "/projects/{project}/lendings", "lend-source", "Say which projects' jobs may read this one's source", func(ctx context.Context, in *struct {
		ProjectPath
		Body api.Lendings
	}) (api.Lendings, error) {
		return sv.s.Lend(ctx, in.Project, in.Body)
	})
	// The signature covers the very bytes of the body, so this one is read as it came.
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodPost, Path: Prefix + "/projects/{project}/pushes", OperationID: "report-push",
		Summary:    "Report changed refs or a proposal, signed by the rules of Standard Webhooks 1.0.0 (webhook-id, webhook-timestamp, webhook-signature)",
		Parameters: []*huma.Param{{Name: "project", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/json": {Schema: &huma.Schema{OneOf: []*huma.Schema{schemaOf[api.PushEvent](a), schemaOf[api.ProposalEvent](a)}}}}},
		Responses: map[string]*huma.Response{"202": {Description: "Recorded", Content: map[string]*huma.MediaType{
			"application/json": {Schema: schemaOf[api.PushAccepted](a)}}}}})
	r.Post(Prefix+"/projects/{project}/pushes", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPush))
		if err != nil {
			writeProblem(w, huma.Error413RequestEntityTooLarge("a push may have at most 4 MiB"))
			return
		}
		accepted, err := sv.s.ReceiveSigned(r.Context(), chi.URLParam(r, "project"), r.Header, text)
		if err != nil {
			writeProblem(w, problem(err))
			return
		}
		writeJSON(w, http.StatusAccepted, "application/json", accepted)
	})
}

// schemaOf puts a type into the document's components and refers to it.
func schemaOf[T any](a huma.API) *huma.Schema {
	return a.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[T](), true, "")
}
