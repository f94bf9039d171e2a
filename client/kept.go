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

// KeptFilter says which things that are kept to list.
type KeptFilter struct {
	Kind    string // "" any
	Goes    string // yes: with the next sweep; no; "" any
	Largest bool   // those first, else the oldest
	After   string // KeptItems.Next of the page before
	Limit   int
}

// KeptItems lists what is kept of a project, or with "" of all.
func (c *Client) KeptItems(ctx context.Context, project string, f KeptFilter) (api.KeptItems, error) {
	order := ""
	if f.Largest {
		order = "largest"
	}
	return get[api.KeptItems](ctx, c, keptPath(project)+"/items"+
		query{"kind": f.Kind, "goes": f.Goes, "after": f.After, "order": order}.listed(f.Limit))
}

// SetKept says by which rules a project's things go, or with "" those of all.
func (c *Client) SetKept(ctx context.Context, project string, r keep.Rules) error {
	return c.call(ctx, http.MethodPut, keptPath(project), r, nil)
}

// RemoveProject removes a project with everything of it.
func (c *Client) RemoveProject(ctx context.Context, project string) error {
	return c.call(ctx, http.MethodDelete, projectPath(project), nil, nil)
}
