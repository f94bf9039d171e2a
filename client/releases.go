package client

import (
	"context"
	"net/http"

	"gentlepiston.example/piston/api"
)

// Releases lists the releases of a project, newest first.
func (c *Client) Releases(ctx context.Context, project string, f api.ReleaseFilter) (api.ReleasePage, error) {
	return get[api.ReleasePage](ctx, c, projectPath(project)+"/releases"+
		query{"app": f.App, "contains": f.Contains, "state": f.State, "before": f.Before}.listed(f.Limit))
}

// Release tells all that is known of a release.
func (c *Client) Release(ctx context.Context, project string, at api.ReleasePath) (api.ReleaseDetail, error) {
	return get[api.ReleaseDetail](ctx, c, releasePath(project, at))
}

// MakeRelease makes one of what a run has kept.
func (c *Client) MakeRelease(ctx context.Context, project string, in api.NewRelease) (r api.ReleaseDetail, err error) {
	err = c.call(ctx, http.MethodPost, projectPath(project)+"/releases", in, &r)
	return r, err
}

// Withdraw takes a release back.
func (c *Client) Withdraw(ctx context.Context, project string, at api.ReleasePath, in api.Withdrawal) error {
	return c.call(ctx, http.MethodPost, releasePath(project, at)+"/withdraw", in, nil)
}
