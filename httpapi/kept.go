package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/service/report"
)

func (sv *server) kept(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/kept", "list-kept",
		"What a project's runs have left behind, by which rules it goes, and what goes next",
		func(ctx context.Context, in *ProjectPath) (api.Kept, error) {
			return sv.s.Report.Kept(ctx, in.Project)
		})
	command(a, http.MethodPut, "/projects/{project}/kept", "set-kept",
		"Say by which rules a project's things go; zeros take those for all", func(ctx context.Context, in *struct {
			ProjectPath
			Body keep.Rules
		}) error {
			return sv.s.Report.SetRules(ctx, in.Project, in.Body)
		})
	operation(a, http.MethodGet, "/kept", "list-kept-of-all",
		"What is kept of all projects, and the rules for those without their own",
		func(ctx context.Context, _ *none) (api.Kept, error) {
			return sv.s.Report.Kept(ctx, "")
		})
	operation(a, http.MethodGet, "/projects/{project}/kept/items", "list-kept-items",
		"What is kept of a project, one by one", func(ctx context.Context, in *struct {
			ProjectPath
			KeptQuery
		}) (api.KeptItems, error) {
			return sv.s.Report.KeptItems(ctx, in.Project, in.filter())
		})
	operation(a, http.MethodGet, "/kept/items", "list-kept-items-of-all", "What is kept of all projects, one by one",
		func(ctx context.Context, in *KeptQuery) (api.KeptItems, error) {
			return sv.s.Report.KeptItems(ctx, "", in.filter())
		})
	command(a, http.MethodPut, "/kept", "set-kept-of-all", "Say by which rules things of all projects go",
		func(ctx context.Context, in *struct{ Body keep.Rules }) error {
			return sv.s.Report.SetRules(ctx, "", in.Body)
		})
	command(a, http.MethodDelete, "/projects/{project}", "remove-project",
		"Remove a project with its runs, logs, artifacts, caches and secrets",
		func(ctx context.Context, in *ProjectPath) error {
			return sv.s.Projects.RemoveProject(ctx, in.Project)
		})
}

// KeptQuery says which things that are kept to list.
type KeptQuery struct {
	Kind  string `query:"kind" enum:"artifact,cache,handover,log"`
	Goes  string `query:"goes" enum:"yes,no" doc:"Whether the next sweep takes it; of all projects nothing is."`
	Order string `query:"order" enum:"oldest,largest" default:"oldest"`
	After string `query:"after" maxLength:"10000" doc:"next of the page before."`
	Limit int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

func (q *KeptQuery) filter() report.KeptFilter {
	f := report.KeptFilter{Kind: q.Kind, Largest: q.Order == "largest", After: q.After, Limit: q.Limit}
	if q.Goes != "" {
		goes := q.Goes == "yes"
		f.Goes = &goes
	}
	return f
}
