package httpapi

import (
	"context"
	"mime"
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
	huma.Register(a, huma.Operation{Method: http.MethodGet, Path: Prefix + "/projects/{project}/ledger/all",
		OperationID: "export-ledger", Summary: "All of the ledger, as a file"}, sv.exportLedger)
	command(a, http.MethodPut, "/projects/{project}/ledger/floor", "set-ledger-floor",
		"Say which build number a store had before: the next is above it", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.LedgerFloor
		}) error {
			return sv.s.Versions.SetFloor(ctx, in.Project, in.Body)
		})
	const notes = "/projects/{project}/releases/{app}/{name}/notes"
	operation(a, http.MethodGet, notes, "notes", "What those who use an app are told of a release, in each language",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
		}) (api.ReleaseNotes, error) {
			return sv.s.Versions.Notes(ctx, in.Project, in.ReleasePath)
		})
	command(a, http.MethodPut, notes+"/{language}", "correct-notes", "Say something else than the draft, in one language",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
			Language string `path:"language" maxLength:"40"`
			Body     api.NotesCorrection
		}) error {
			return sv.s.Versions.CorrectNotes(ctx, in.Project, who(ctx).Name, in.ReleasePath, in.Language, in.Body)
		})
	command(a, http.MethodDelete, notes+"/{language}", "take-back-notes", "Take a correction back: the draft holds again",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ReleasePath
			Language string `path:"language" maxLength:"40"`
			Revision int    `query:"revision" doc:"that of the notes that were seen" minimum:"0"`
		}) error {
			return sv.s.Versions.TakeBackNotes(ctx, in.Project, in.ReleasePath, in.Language, in.Revision)
		})
}

type ledgerExport struct {
	ProjectPath
	api.LedgerFilter
	As string `query:"as" doc:"the form" enum:"csv,json" default:"csv"`
}

// exportLedger answers with the whole ledger, page by page. The first is read before anything is answered, so that what
// is wrong is said as a problem.
func (sv *server) exportLedger(ctx context.Context, in *ledgerExport) (*huma.StreamResponse, error) {
	in.Limit = 1000
	first, err := sv.s.Versions.Ledger(ctx, in.Project, in.LedgerFilter)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", "application/json")
		if in.As == api.AsCSV {
			h.SetHeader("Content-Type", "text/csv; charset=utf-8; header=present")
		}
		h.SetHeader("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": in.Project + "-ledger." + in.As}))
		err := api.WriteLedger(h.BodyWriter(), in.As, func(before int64) (api.Ledger, error) {
			if before == 0 {
				return first, nil
			}
			in.Before = before
			return sv.s.Versions.Ledger(h.Context(), in.Project, in.LedgerFilter)
		})
		if err != nil {
			panic(http.ErrAbortHandler) // half a ledger must not look like a whole one
		}
	}}, nil
}
