package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/gates"
)

// GatePath names a gate; exported, since only then can other inputs embed it.
type GatePath struct {
	Project string        `path:"project" maxLength:"63"`
	ID      record.GateID `path:"id" minimum:"1"`
}

func (sv *server) gates(a huma.API) {
	operation(a, http.MethodGet, "/gates", "list-gates",
		"What people are asked, in the projects one may see, newest first",
		func(ctx context.Context, in *struct {
			Project string        `query:"project" maxLength:"63"`
			Open    bool          `query:"open" doc:"Only what waits for an answer."`
			Mine    bool          `query:"mine" doc:"Only what one may answer oneself, now."`
			Before  record.GateID `query:"before" minimum:"0" doc:"Only earlier ones: next of the page before."`
			Limit   int           `query:"limit" minimum:"1" maximum:"200" default:"30"`
		}) (api.GatePage, error) {
			return sv.s.Gates.List(ctx, gates.Filter{Project: in.Project, Open: in.Open, Mine: in.Mine, Before: in.Before,
				Limit: in.Limit})
		})
	operation(a, http.MethodGet, "/projects/{project}/gates/{id}", "get-gate", "What people are asked, and have said",
		func(ctx context.Context, in *GatePath) (api.Gate, error) {
			return sv.s.Gates.Gate(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodPost, "/projects/{project}/gates/{id}/answer", "answer-gate",
		"Say yes or no. Who may is in the pipeline; one who says no ends it",
		func(ctx context.Context, in *struct {
			GatePath
			Body api.GateAnswer
		}) (api.Gate, error) {
			return sv.s.Gates.Answer(ctx, in.Project, in.ID, in.Body)
		})
}
