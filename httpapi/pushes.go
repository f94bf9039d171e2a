package httpapi

import (
	"context"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/intake"
)

// maxPush is the most bytes a reported push may have: a thousand refs with long names.
const maxPush = 4 << 20

func (sv *server) pushes(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/projects/{project}/pushes", "list-pushes",
		"What may start runs: pushes, proposals, schedules, and what came of each, newest first",
		func(ctx context.Context, in *struct {
			ProjectPath
			State  string        `query:"state" enum:"waiting,planned,set-aside"`
			Commit string        `query:"commit" maxLength:"64" pattern:"^([0-9a-f]{40}|[0-9a-f]{64})?$" doc:"What refs came to"`
			Before record.PushID `query:"before" minimum:"0" doc:"Only what came before this one: next of the page before."`
			Limit  int           `query:"limit" minimum:"1" maximum:"200" default:"30"`
		}) (api.PushPage, error) {
			return sv.s.Intake.Pushes(ctx, in.Project,
				intake.PushFilter{State: in.State, Commit: in.Commit, Before: in.Before, Limit: in.Limit})
		})
	command(a, http.MethodPost, "/projects/{project}/pushes/{id}/retry", "retry-push", "Plan again what was set aside",
		func(ctx context.Context, in *struct {
			ProjectPath
			ID record.PushID `path:"id" minimum:"1"`
		}) error {
			return sv.s.Intake.RetryPush(ctx, in.Project, in.ID)
		})
	// The signature covers the very bytes of the body, so this one is read as it came.
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodPost, Path: Prefix + "/projects/{project}/pushes",
		OperationID: "report-push",
		Summary: "Report changed refs or a proposal, signed by the rules of Standard Webhooks 1.0.0 (webhook-id, " +
			"webhook-timestamp, webhook-signature)",
		Parameters: []*huma.Param{{Name: "project", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "wait_ms", In: "query",
				Description: "How long the answer may wait for the runs that come of it, up to 10000.",
				Schema:      &huma.Schema{Type: "integer"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/json": {Schema: &huma.Schema{OneOf: []*huma.Schema{schemaOf[api.PushEvent](a),
				schemaOf[api.ProposalEvent](a)}}}}},
		Responses: map[string]*huma.Response{"202": {Description: "Recorded", Content: map[string]*huma.MediaType{
			"application/json": {Schema: schemaOf[api.PushAccepted](a)}}}}})
	r.Post(Prefix+"/projects/{project}/pushes", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPush))
		if err != nil {
			writeProblem(w, huma.Error413RequestEntityTooLarge("a push may have at most 4 MiB"))
			return
		}
		ms, _ := strconv.Atoi(r.URL.Query().Get("wait_ms")) // what is no number is not to wait
		wait := time.Duration(min(ms, int(intake.MaxPushWait.Milliseconds()))) * time.Millisecond
		accepted, err := sv.s.Intake.ReceiveSigned(r.Context(), chi.URLParam(r, "project"), r.Header, text, wait)
		if err != nil {
			fail(w, r, err)
			return
		}
		writeJSON(w, http.StatusAccepted, "application/json", accepted)
	})
}
