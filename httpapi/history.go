package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// history registers what all runs of a project tell together.
func history(sv *server, a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/times", "times", "Where the time of a pipeline's last runs went",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.TimesFilter
		}) (api.Times, error) {
			return sv.s.History.Times(ctx, in.Project, in.TimesFilter)
		})
	operation(a, http.MethodGet, "/projects/{project}/times/step", "step-times",
		"How long a step took, run by run, and what was different where that changed", func(ctx context.Context, in *struct {
			ProjectPath
			api.StepFilter
		}) (api.StepTimes, error) {
			return sv.s.History.Step(ctx, in.Project, in.StepFilter)
		})
	operation(a, http.MethodGet, "/projects/{project}/runs/{number}/times", "run-times",
		"Where a run's time went, what would have made it shorter, and what was slower than usual",
		func(ctx context.Context, in *RunPath) (api.RunTimes, error) {
			return sv.s.History.Run(ctx, in.Project, in.Number)
		})
}
