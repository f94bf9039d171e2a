package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

func testerPath(project string, id record.TesterID) string {
	return fmt.Sprintf("%s/testers/%d", projectPath(project), id)
}

// Testers lists who tries a project's releases, in the order in which they were added.
func (c *Client) Testers(ctx context.Context, project string, f api.TesterFilter) (api.TesterPage, error) {
	return get[api.TesterPage](ctx, c, projectPath(project)+"/testers"+
		query{"group": f.Group, "contains": f.Contains, "after": f.After}.listed(f.Limit))
}

// AddTesters puts people into a group of testers.
func (c *Client) AddTesters(ctx context.Context, project string, in api.NewTesters) (out api.AddedTesters, err error) {
	err = c.call(ctx, http.MethodPost, projectPath(project)+"/testers", in, &out)
	return out, err
}

// DropTester takes somebody out of a group; with none, out of the project.
func (c *Client) DropTester(ctx context.Context, project string, id record.TesterID, group string) error {
	return c.call(ctx, http.MethodDelete, testerPath(project, id)+"?group="+url.QueryEscape(group), nil, nil)
}

// NewTesterLink gives somebody another link. The one before leads nowhere any more.
func (c *Client) NewTesterLink(ctx context.Context, project string, id record.TesterID) (l api.TesterLink, err error) {
	err = c.call(ctx, http.MethodPost, testerPath(project, id)+"/link", nil, &l)
	return l, err
}

// TestDevices lists the devices that a provisioning profile has to name.
func (c *Client) TestDevices(ctx context.Context, project string) ([]api.TestDevice, error) {
	return get[[]api.TestDevice](ctx, c, projectPath(project)+"/test-devices")
}

// Tried tells how a release fares with testers.
func (c *Client) Tried(ctx context.Context, project string, at api.ReleasePath) (api.Tried, error) {
	return get[api.Tried](ctx, c, releasePath(project, at)+"/tried")
}
