package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/keep"
)

func (sv *server) kept(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/kept", "list-kept", "What a project's runs have left behind, by which rules it goes, and what goes next", func(ctx context.Context, in *ProjectPath) (api.Kept, error) {
		return sv.s.Kept(ctx, in.Project)
	})
	command(a, http.MethodPut, "/projects/{project}/kept", "set-kept", "Say by which rules a project's things go; zeros take those for all", func(ctx context.Context, in *struct {
		ProjectPath
		Body keep.Rules
	}) error {
		return sv.s.SetRules(ctx, in.Project, in.Body)
	})
	operation(a, http.MethodGet, "/kept", "list-kept-of-all", "What is kept of all projects, and the rules for those without their own", func(ctx context.Context, _ *none) (api.Kept, error) {
		return sv.s.KeptOfAll(ctx)
	})
	command(a, http.MethodPut, "/kept", "set-kept-of-all", "Say by which rules things of all projects go", func(ctx context.Context, in *struct{ Body keep.Rules }) error {
		return sv.s.SetRules(ctx, "", in.Body)
	})
	command(a, http.MethodDelete, "/projects/{project}", "remove-project", "Remove a project with its runs, logs, artifacts, caches and secrets", func(ctx context.Context, in *ProjectPath) error {
		return sv.s.RemoveProject(ctx, in.Project)
	})
}
