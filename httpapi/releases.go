package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// releases registers what is known of releases, and what people do about them.
func (sv *server) releases(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/releases", "list-releases", "List releases, newest first",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleaseFilter
		}) (api.ReleasePage, error) {
			return sv.s.Releases.List(ctx, in.Project, in.ReleaseFilter)
		})
	operation(a, http.MethodPost, "/projects/{project}/releases", "make-release",
		"Make a release of what a run has kept that passed", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.NewRelease
		}) (api.ReleaseDetail, error) {
			return sv.s.Releases.ByHand(ctx, in.Project, in.Body)
		})
	const one = "/projects/{project}/releases/{app}/{name}"
	operation(a, http.MethodGet, one, "release", "All that is known of a release, and what became of it",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
		}) (api.ReleaseDetail, error) {
			return sv.s.Releases.Release(ctx, in.Project, in.ReleasePath)
		})
	command(a, http.MethodPost, one+"/withdraw", "withdraw-release", "Take a release back: it goes nowhere any more",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
			Body api.Withdrawal
		}) error {
			return sv.s.Releases.Withdraw(ctx, in.Project, in.ReleasePath, in.Body)
		})
}
