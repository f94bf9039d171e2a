package client

import (
	"context"
	"net/http"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/keep"
)

// keptPath is a project's, or with "" that of all.
func keptPath(project string) string {
	if project == "" {
		return "/kept"
	}
	return projectPath(project) + "/kept"
}

// Kept tells what is kept of a project, or with "" of all.
func (c *Client) Kept(ctx context.Context, project string) (api.Kept, error) {
	return get[api.Kept](ctx, c, keptPath(project))
}

// SetKept says by which rules a project's things go, or with "" those of all.
func (c *Client) SetKept(ctx context.Context, project string, r keep.Rules) error {
	return c.call(ctx, http.MethodPut, keptPath(project), r, nil)
}

// RemoveProject removes a project with everything of it.
func (c *Client) RemoveProject(ctx context.Context, project string) error {
	return c.call(ctx, http.MethodDelete, projectPath(project), nil, nil)
}
