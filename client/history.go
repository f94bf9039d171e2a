package client

import (
	"context"
	"net/url"
	"strconv"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// asking is the query of a list of what has a limit; empty texts are left out.
func asking(limit int, texts map[string]string) string {
	q := url.Values{"limit": {strconv.Itoa(max(limit, 1))}}
	for name, text := range texts {
		if text != "" {
			q.Set(name, text)
		}
	}
	return "?" + q.Encode()
}

// Times tells where the time of a pipeline's last runs went.
func (c *Client) Times(ctx context.Context, project string, f api.TimesFilter) (api.Times, error) {
	return get[api.Times](ctx, c, projectPath(project)+"/times"+
		asking(f.Limit, map[string]string{"pipeline": f.Pipeline, "branch": f.Branch}))
}

// StepTimes tells the history of one step.
func (c *Client) StepTimes(ctx context.Context, project string, f api.StepFilter) (api.StepTimes, error) {
	return get[api.StepTimes](ctx, c, projectPath(project)+"/times/step"+
		asking(f.Limit, map[string]string{"pipeline": f.Pipeline, "branch": f.Branch, "job": f.Job, "step": f.Step,
			"machine": f.Machine}))
}

// RunTimes tells where a run's time went, what would have made it shorter, and what was slower than usual.
func (c *Client) RunTimes(ctx context.Context, project string, number record.RunNumber) (api.RunTimes, error) {
	return get[api.RunTimes](ctx, c, runPath(project, number)+"/times")
}
