package client

import (
	"context"
	"fmt"
	"net/http"

	"gentlepiston.example/piston/api"
)

// PushFilter narrows a list of events. Zero fields do not.
type PushFilter struct {
	State, Commit string
	Before        int64
	Limit         int
}

// Pushes lists what may start runs, and what came of it, newest first.
func (c *Client) Pushes(ctx context.Context, project string, f PushFilter) (api.PushPage, error) {
	return get[api.PushPage](ctx, c, projectPath(project)+"/pushes"+
		query{"state": f.State, "commit": f.Commit, "before": f.Before}.listed(f.Limit))
}

// RetryPush has an event planned again that was set aside.
func (c *Client) RetryPush(ctx context.Context, project string, id int64) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("%s/pushes/%d/retry", projectPath(project), id), nil, nil)
}
