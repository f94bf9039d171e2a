package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/work"
)

func (sv *server) queue(a huma.API) {
	operation(a, http.MethodGet, "/queue", "list-queue",
		"Jobs that wait, in the order in which they will be handed out, and what each waits for",
		func(ctx context.Context, in *struct {
			Project string           `query:"project" maxLength:"63" doc:"Only of this project."`
			Run     record.RunNumber `query:"run" minimum:"0" doc:"Only of the run of this number."`
			After   int              `query:"after" minimum:"0" doc:"Only behind this place: next of the page before."`
			Limit   int              `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (api.QueuePage, error) {
			return sv.s.Work.Queue(ctx, work.QueueFilter{Project: in.Project, Run: in.Run, After: in.After, Limit: in.Limit})
		})
	operation(a, http.MethodPut, "/projects/{project}/hold", "hold-project",
		"Keep a project's jobs from being handed out, or let them go again", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.Hold
		}) (api.Project, error) {
			return sv.s.Projects.Hold(ctx, in.Project, who(ctx).Name, in.Body.Reason)
		})
	operation(a, http.MethodPut, "/projects/{project}/limit", "limit-project",
		"Bound how many jobs of a project are at work at once", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.ProjectLimit
		}) (api.Project, error) {
			return sv.s.Projects.LimitProject(ctx, in.Project, in.Body.AtOnce)
		})
	operation(a, http.MethodPost, "/projects/{project}/runs/{number}/again", "restart-run",
		"Start a run again: all of it as a new run, or in place what did not pass", func(ctx context.Context, in *struct {
			RunPath
			Body api.Restart
		}) (api.Run, error) {
			return sv.s.Intake.Restart(ctx, in.Project, in.Number, who(ctx).Name, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}/runs/{number}/since", "compare-run",
		"What has changed since the pipeline last passed", func(ctx context.Context, in *RunPath) (api.Since, error) {
			return sv.s.Report.Since(ctx, in.Project, in.Number)
		})
	operation(a, http.MethodGet, "/projects/{project}/schedules", "list-schedules", "When a project's pipelines are due",
		func(ctx context.Context, in *ProjectPath) ([]api.Schedule, error) {
			return sv.s.Intake.Schedules(ctx, in.Project)
		})
}

func (sv *server) pipelines(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/pipelines", "list-pipelines",
		"A project's pipelines as they stand at a branch, tag or commit", func(ctx context.Context, in *struct {
			ProjectPath
			Ref string `query:"ref" maxLength:"1024" doc:"Default: the main branch."`
		}) (api.Pipelines, error) {
			return sv.s.Intake.Pipelines(ctx, in.Project, in.Ref)
		})
	operation(a, http.MethodPost, "/projects/{project}/check", "check-pipeline",
		"Look for mistakes in a pipeline file that is not pushed yet", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.CheckRequest
		}) (api.PipelineNote, error) {
			return sv.s.Intake.Check(ctx, in.Project, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}/knowledge", "get-knowledge",
		"What a check on a person's machine may know of the service",
		func(ctx context.Context, in *ProjectPath) (api.Knowledge, error) {
			return sv.s.Intake.Knowledge(ctx, in.Project)
		})
}
