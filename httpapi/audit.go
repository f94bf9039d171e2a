package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
)

// AuditQuery narrows the audit trail; exported, since only then can inputs embed it.
type AuditQuery struct {
	Who     string    `query:"who" doc:"Only what this person, or this runner's token, did."`
	Act     string    `query:"act" doc:"Only this, or what begins with it up to a dot: secret finds secret.set."`
	Subject string    `query:"subject"`
	Since   time.Time `query:"since"`
	Until   time.Time `query:"until"`
	Before  int64     `query:"before" minimum:"0" doc:"Only ids below: next of the page before."`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (sv *server) audit(a huma.API) {
	of := func(f AuditQuery, project string) ground.AuditFilter {
		out := ground.AuditFilter{Who: f.Who, Act: f.Act, Project: project, Subject: f.Subject, Before: f.Before,
			Limit: f.Limit}
		if !f.Since.IsZero() {
			out.Since = &f.Since
		}
		if !f.Until.IsZero() {
			out.Until = &f.Until
		}
		return out
	}
	operation(a, http.MethodGet, "/audit", "list-audit", "Who did what, newest first",
		func(ctx context.Context, in *struct {
			AuditQuery
			Project string `query:"project" maxLength:"63"`
		}) (api.AuditPage, error) {
			return sv.s.Audit(ctx, of(in.AuditQuery, in.Project))
		})
	operation(a, http.MethodGet, "/projects/{project}/audit", "list-project-audit",
		"Who did what in a project, newest first", func(ctx context.Context, in *struct {
			ProjectPath
			AuditQuery
		}) (api.AuditPage, error) {
			return sv.s.Audit(ctx, of(in.AuditQuery, in.Project))
		})
}
