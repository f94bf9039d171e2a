package httpapi

import (
	"context"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

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

func (sv *server) projects(a huma.API) {
	operation(a, http.MethodGet, "/projects", "list-projects", "List projects by name, each with its latest run",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Project, error) {
			return sv.s.Projects.Projects(ctx, in.Page)
		})
	operation(a, http.MethodPost, "/projects", "add-project", "Register a repository",
		func(ctx context.Context, in *struct{ Body api.NewProject }) (api.Project, error) {
			return sv.s.Projects.AddProject(ctx, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}", "get-project", "A project with its latest run",
		func(ctx context.Context, in *ProjectPath) (api.Project, error) {
			return sv.s.Projects.Project(ctx, in.Project)
		})
	operation(a, http.MethodGet, "/projects/{project}/hook-key", "get-hook-key", "The secret by which pushes are signed",
		func(ctx context.Context, in *ProjectPath) (api.HookKey, error) {
			return sv.s.Projects.HookKey(ctx, in.Project)
		})
	operation(a, http.MethodPut, "/projects/{project}/network", "allow-network",
		"Say whether a project's steps may be given a machine's own network", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.ProjectNetwork
		}) (api.Project, error) {
			return sv.s.Projects.AllowHostNetwork(ctx, in.Project, in.Body.Host)
		})
	operation(a, http.MethodPut, "/projects/{project}/bot", "set-bot",
		"Say who commits what a project's runs land, and how that is pushed", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.Bot
		}) (api.Project, error) {
			return sv.s.Projects.SetBot(ctx, in.Project, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}/lendings", "list-lendings",
		"Projects whose jobs may read this one's source, as submodules",
		func(ctx context.Context, in *ProjectPath) (api.Lendings, error) {
			return sv.s.Projects.Lendings(ctx, in.Project)
		})
	operation(a, http.MethodPut, "/projects/{project}/lendings", "lend-source",
		"Say which projects' jobs may read this one's source", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.Lendings
		}) (api.Lendings, error) {
			return sv.s.Projects.Lend(ctx, in.Project, in.Body)
		})
}

// schemaOf puts a type into the document's components and refers to it.
func schemaOf[T any](a huma.API) *huma.Schema {
	return a.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[T](), true, "")
}
