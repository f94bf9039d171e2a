package client

import (
	"context"
	"net/http"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// Bisections lists the searches for the first bad change of a run's jobs.
func (c *Client) Bisections(ctx context.Context, project string, run record.RunNumber) ([]api.Bisection, error) {
	return get[[]api.Bisection](ctx, c, runPath(project, run)+"/bisections")
}

// BeginBisection begins to look for the first change with which a job of a failed run fails.
func (c *Client) BeginBisection(ctx context.Context, project string, run record.RunNumber, in api.NewBisection) (
	out api.Bisection, err error) {
	err = c.call(ctx, http.MethodPost, runPath(project, run)+"/bisections", in, &out)
	return out, err
}

// StopBisection stops such a search.
func (c *Client) StopBisection(ctx context.Context, project string, run record.RunNumber, job string) error {
	return c.call(ctx, http.MethodDelete, jobPath(project, run, job)+"/bisection", nil, nil)
}
