package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// versions registers what people see of the ledger, and may say of it.
func (sv *server) versions(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/ledger", "ledger",
		"The versions that were handed out, the newest first", func(ctx context.Context, in *struct {
			ProjectPath
			api.LedgerFilter
		}) (api.Ledger, error) {
			return sv.s.Versions.Ledger(ctx, in.Project, in.LedgerFilter)
		})
	command(a, http.MethodPut, "/projects/{project}/ledger/floor", "set-ledger-floor",
		"Say which build number a store had before: the next is above it", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.LedgerFloor
		}) error {
			return sv.s.Versions.SetFloor(ctx, in.Project, in.Body)
		})
}
