package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/cause"
	"gentlepiston.example/piston/core/record"
)

// Times tells where the time of a pipeline's last runs went.
func (c *Client) Times(ctx context.Context, project string, f api.TimesFilter) (api.Times, error) {
	return get[api.Times](ctx, c, projectPath(project)+"/times"+
		query{"pipeline": f.Pipeline, "branch": f.Branch}.listed(f.Limit))
}

// StepTimes tells the history of one step.
func (c *Client) StepTimes(ctx context.Context, project string, f api.StepFilter) (api.StepTimes, error) {
	return get[api.StepTimes](ctx, c, projectPath(project)+"/times/step"+
		query{"pipeline": f.Pipeline, "branch": f.Branch, "job": f.Job, "step": f.Step,
			"machine": f.Machine}.listed(f.Limit))
}

// RunTimes tells where a run's time went, what would have made it shorter, and what was slower than usual.
func (c *Client) RunTimes(ctx context.Context, project string, number record.RunNumber) (api.RunTimes, error) {
	return get[api.RunTimes](ctx, c, runPath(project, number)+"/times")
}

// RanCases tells what came of test cases in an attempt, and learns which of those that failed are set aside.
func (c *Client) RanCases(ctx context.Context, attempt record.AttemptID, in api.CasesRan) (out api.CasesNoted,
	err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/cases", in, &out)
	return out, err
}

// Deal asks what of a list falls to an attempt's variant of its job.
func (c *Client) Deal(ctx context.Context, attempt record.AttemptID, in api.DealRequest) (out api.Dealt, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/deal", in, &out)
	return out, err
}

func testPath(project string, id record.CaseID) string {
	return fmt.Sprintf("%s/tests/%d", projectPath(project), id)
}

// Tests lists test cases of a project.
func (c *Client) Tests(ctx context.Context, project string, f api.TestFilter) (api.TestPage, error) {
	return get[api.TestPage](ctx, c, projectPath(project)+"/tests"+
		query{"show": f.Show, "contains": f.Contains, "skip": f.Skip}.listed(f.Limit))
}

// Test tells all of one test case.
func (c *Client) Test(ctx context.Context, project string, id record.CaseID) (api.TestHistory, error) {
	return get[api.TestHistory](ctx, c, testPath(project, id))
}

// SetTestAside has a case's failure fail nothing until a day.
func (c *Client) SetTestAside(ctx context.Context, project string, id record.CaseID, in api.NewAside) (out api.TestCase,
	err error) {
	err = c.call(ctx, http.MethodPut, testPath(project, id)+"/aside", in, &out)
	return out, err
}

// EndTestAside ends that a case is set aside.
func (c *Client) EndTestAside(ctx context.Context, project string, id record.CaseID) error {
	return c.call(ctx, http.MethodDelete, testPath(project, id)+"/aside", nil, nil)
}

// Failures lists what failed in a project, each failure once.
func (c *Client) Failures(ctx context.Context, project string, f api.FailureFilter) (api.FailurePage, error) {
	return get[api.FailurePage](ctx, c, projectPath(project)+"/failures"+
		query{"contains": f.Contains, "cause": f.Cause, "skip": f.Skip}.listed(f.Limit))
}

// Causes lists the causes of failures that the service knows.
func (c *Client) Causes(ctx context.Context) ([]cause.Cause, error) {
	return get[[]cause.Cause](ctx, c, "/causes")
}

// Usage tells how long machines were at work for a project; for all where it is "".
func (c *Client) Usage(ctx context.Context, project string, f api.UsageFilter) (api.Usage, error) {
	at := "/usage"
	if project != "" {
		at = projectPath(project) + at
	}
	q := url.Values{"by": {f.By}}
	if f.Month != "" {
		q.Set("month", f.Month)
	}
	return get[api.Usage](ctx, c, at+"?"+q.Encode())
}

// SetBudget gives a project a budget of minutes a month.
func (c *Client) SetBudget(ctx context.Context, project string, in api.NewBudget) (out api.Usage, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/budget", in, &out)
	return out, err
}

// DropBudget takes a project's budget back.
func (c *Client) DropBudget(ctx context.Context, project string) error {
	return c.call(ctx, http.MethodDelete, projectPath(project)+"/budget", nil, nil)
}

// Overview tells of a project at a glance.
func (c *Client) Overview(ctx context.Context, project string) (api.Overview, error) {
	return get[api.Overview](ctx, c, projectPath(project)+"/overview")
}

// SearchLogs looks for text in the logs of a project, the latest runs first.
func (c *Client) SearchLogs(ctx context.Context, project string, f api.LogSearch) (api.LogFound, error) {
	return get[api.LogFound](ctx, c, projectPath(project)+"/logs"+query{"for": f.For, "job": f.Job, "after": f.After,
		"pattern": f.Pattern, "run": f.Run}.listed(f.Limit))
}

// CompareLogs tells in what the log of a run's job differs from that of another run.
func (c *Client) CompareLogs(ctx context.Context, project string, number record.RunNumber, job string,
	other record.RunNumber) (api.LogComparison, error) {
	return get[api.LogComparison](ctx, c, jobPath(project, number, job)+fmt.Sprintf("/log/against?run=%d", other))
}
