package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// bisections registers searches for the first change with which a job fails.
func bisections(sv *server, a huma.API) {
	const run = "/projects/{project}/runs/{number}"
	operation(a, http.MethodGet, run+"/bisections", "list-bisections",
		"The searches for the first bad change of a run's jobs",
		func(ctx context.Context, in *RunPath) ([]api.Bisection, error) {
			return sv.s.Bisect.Of(ctx, in.Project, in.Number)
		})
	operation(a, http.MethodPost, run+"/bisections", "begin-bisection",
		"Look for the first change with which a job of a failed run fails", func(ctx context.Context, in *struct {
			RunPath
			Body api.NewBisection
		}) (api.Bisection, error) {
			return sv.s.Bisect.Begin(ctx, in.Project, in.Number, in.Body)
		})
	command(a, http.MethodDelete, run+"/jobs/{job}/bisection", "stop-bisection", "Stop such a search",
		func(ctx context.Context, in *JobPath) error {
			return sv.s.Bisect.Stop(ctx, in.Project, in.Number, in.Job)
		})
}
