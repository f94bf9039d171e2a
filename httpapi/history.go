package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/cause"
	"gentlepiston.example/piston/core/record"
)

// CasePath names a test case; exported, since only then can other inputs embed it.
type CasePath struct {
	ProjectPath
	ID record.CaseID `path:"id" minimum:"1"`
}

// history registers what all runs of a project tell together.
func history(sv *server, a huma.API) {
	operation(a, http.MethodGet, "/overview", "overviews", "Projects at a glance, by name",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Overview, error) {
			return sv.s.History.Overviews(ctx, in.Page)
		})
	operation(a, http.MethodGet, "/projects/{project}/overview", "overview",
		"A project at a glance: is it fine, what is at work, what needs somebody",
		func(ctx context.Context, in *ProjectPath) (api.Overview, error) {
			return sv.s.History.Overview(ctx, in.Project)
		})
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
	operation(a, http.MethodGet, "/projects/{project}/failures", "list-failures",
		"List what failed, each failure once: how often, since when, and with which change it went away",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.FailureFilter
		}) (api.FailurePage, error) {
			return sv.s.Report.Failures(ctx, in.Project, in.FailureFilter)
		})
	operation(a, http.MethodGet, "/causes", "list-causes", "List the causes of failures that the service knows",
		func(context.Context, *none) ([]cause.Cause, error) { return sv.s.Report.Causes(), nil })
	operation(a, http.MethodGet, "/usage", "usage", "How long machines were at work, for all projects",
		func(ctx context.Context, in *struct{ api.UsageFilter }) (api.Usage, error) {
			return sv.s.History.Usage(ctx, "", in.UsageFilter)
		})
	operation(a, http.MethodGet, "/projects/{project}/usage", "project-usage",
		"How long machines were at work for a project, what could have been spared, and its budget",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.UsageFilter
		}) (api.Usage, error) {
			return sv.s.History.Usage(ctx, in.Project, in.UsageFilter)
		})
	operation(a, http.MethodPut, "/projects/{project}/budget", "set-budget", "Give a project a budget of minutes a month",
		func(ctx context.Context, in *struct {
			ProjectPath
			Body api.NewBudget
		}) (api.Usage, error) {
			return sv.s.History.SetBudget(ctx, in.Project, in.Body)
		})
	command(a, http.MethodDelete, "/projects/{project}/budget", "drop-budget", "Take a project's budget back",
		func(ctx context.Context, in *ProjectPath) error { return sv.s.History.DropBudget(ctx, in.Project) })
	operation(a, http.MethodGet, "/projects/{project}/logs", "search-logs",
		"Look for text in the logs of all runs, the latest first", func(ctx context.Context, in *struct {
			ProjectPath
			api.LogSearch
		}) (api.LogFound, error) {
			return sv.s.Logs.Search(ctx, in.Project, in.LogSearch)
		})
	const cases = "/projects/{project}/tests"
	operation(a, http.MethodGet, cases, "list-tests", "List test cases: those that fail, are flaky, slow, new or gone",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.TestFilter
		}) (api.TestPage, error) {
			return sv.s.History.Cases(ctx, in.Project, in.TestFilter)
		})
	operation(a, http.MethodGet, cases+"/{id}", "test", "All of one test case: its results, and when it broke",
		func(ctx context.Context, in *CasePath) (api.TestHistory, error) {
			return sv.s.History.Case(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodPut, cases+"/{id}/aside", "set-test-aside",
		"Have a test case's failure fail nothing until a day", func(ctx context.Context, in *struct {
			CasePath
			Body api.NewAside
		}) (api.TestCase, error) {
			return sv.s.History.SetAside(ctx, in.Project, in.ID, in.Body)
		})
	command(a, http.MethodDelete, cases+"/{id}/aside", "end-test-aside", "A test case is set aside no longer",
		func(ctx context.Context, in *CasePath) error {
			return sv.s.History.EndAside(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/cases", "ran-cases", "Tell what came of test cases",
		func(ctx context.Context, in *struct {
			AttemptPath
			Body api.CasesRan
		}) (api.CasesNoted, error) {
			return sv.s.History.Ran(ctx, in.Attempt, in.Body)
		})
}
