package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

func outletPath(project, name string) string {
	return projectPath(project) + "/outlets/" + url.PathEscape(name)
}

// Outlets lists the places where a project's releases can go.
func (c *Client) Outlets(ctx context.Context, project string) ([]api.Outlet, error) {
	return get[[]api.Outlet](ctx, c, projectPath(project)+"/outlets")
}

// SetOutlet makes one, or changes it.
func (c *Client) SetOutlet(ctx context.Context, project, name string, in api.NewOutlet) (o api.Outlet, err error) {
	err = c.call(ctx, http.MethodPut, outletPath(project, name), in, &o)
	return o, err
}

// DropOutlet removes one to which nothing ever went.
func (c *Client) DropOutlet(ctx context.Context, project, name string) error {
	return c.call(ctx, http.MethodDelete, outletPath(project, name), nil, nil)
}

// TryOutlet sees whether one answers.
func (c *Client) TryOutlet(ctx context.Context, project, name string) (t api.OutletTried, err error) {
	err = c.call(ctx, http.MethodPost, outletPath(project, name)+"/try", nil, &t)
	return t, err
}

// Publications lists releases on their way to outlets, newest first.
func (c *Client) Publications(ctx context.Context, project string, f api.PublicationFilter) (api.PublicationPage,
	error) {
	return get[api.PublicationPage](ctx, c, projectPath(project)+"/publications"+query{"outlet": f.Outlet,
		"state": f.State, "release": f.Release, "before": f.Before}.listed(f.Limit))
}

// Publish brings a release to an outlet.
func (c *Client) Publish(ctx context.Context, project string, at api.ReleasePath, in api.NewPublication) (
	p api.Publication, err error) {
	err = c.call(ctx, http.MethodPost, releasePath(project, at)+"/publications", in, &p)
	return p, err
}

// PlanPublication tells what publishing would change, and what is missing for it.
func (c *Client) PlanPublication(ctx context.Context, project string, at api.ReleasePath, in api.NewPublication) (
	p api.PublicationPlan, err error) {
	err = c.call(ctx, http.MethodPost, releasePath(project, at)+"/publications/plan", in, &p)
	return p, err
}

// SharePublication gives it to so many of a hundred people.
func (c *Client) SharePublication(ctx context.Context, project string, id record.PublicationID, percent int) error {
	return c.onPublication(ctx, project, id, "share", api.ShareWish{Percent: percent})
}

// HaltPublication keeps further people from getting it.
func (c *Client) HaltPublication(ctx context.Context, project string, id record.PublicationID) error {
	return c.onPublication(ctx, project, id, "halt", nil)
}

// WithdrawPublication takes it back.
func (c *Client) WithdrawPublication(ctx context.Context, project string, id record.PublicationID) error {
	return c.onPublication(ctx, project, id, "withdraw", nil)
}

func (c *Client) onPublication(ctx context.Context, project string, id record.PublicationID, act string,
	in any) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("%s/publications/%d/%s", projectPath(project), id, act), in, nil)
}
