package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// packages registers what people see of packages, and what a runner tells of them.
func (sv *server) packages(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/packages", "list-packages",
		"List packages that runs have made, newest first", func(ctx context.Context, in *struct {
			ProjectPath
			api.PackageFilter
		}) (api.PackagePage, error) {
			return sv.s.Packages.Packages(ctx, in.Project, in.PackageFilter)
		})
	operation(a, http.MethodGet, "/projects/{project}/packages/{id}", "package",
		"What is in a package, what the checklist says, and how it differs from the one before",
		func(ctx context.Context, in *struct {
			ProjectPath
			ID record.PackageID `path:"id" minimum:"1"`
		}) (api.PackageDetail, error) {
			return sv.s.Packages.Package(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodGet, "/projects/{project}/packages/{id}/provenance", "provenance",
		"From what a package was built, by whom and how: a signed statement", func(ctx context.Context, in *struct {
			ProjectPath
			ID record.PackageID `path:"id" minimum:"1"`
		}) (api.Provenance, error) {
			return sv.s.Packages.Provenance(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodGet, "/projects/{project}/packages/{id}/bill", "bill",
		"What a package is made of, as CycloneDX: a signed statement", func(ctx context.Context, in *struct {
			ProjectPath
			ID record.PackageID `path:"id" minimum:"1"`
		}) (api.Provenance, error) {
			return sv.s.Packages.Bill(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodGet, "/statement-key", "statement-key", "The key that signed statements are checked with",
		func(ctx context.Context, _ *none) (api.StatementKey, error) { return sv.s.Packages.PublicKey(ctx) })
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/packages", "judge-packages",
		"Hold packages against the checklist", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.PackagesSeen
		}) (api.Judged, error) {
			return sv.s.Packages.Judge(ctx, in.Attempt, in.Body)
		})
}
