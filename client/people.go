package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
)

// IssueToken makes an API token.
func (c *Client) IssueToken(ctx context.Context, n api.NewToken) (out api.IssuedToken, err error) {
	err = c.call(ctx, http.MethodPost, "/tokens", n, &out)
	return out, err
}

// Tokens lists up to limit API tokens after an id, with a text in their name: one's own, or for an administrator all.
func (c *Client) Tokens(ctx context.Context, after int64, contains string, limit int) ([]api.Token, error) {
	return get[[]api.Token](ctx, c,
		fmt.Sprintf("/tokens?after=%d&contains=%s&limit=%d", after, url.QueryEscape(contains), limit))
}

// RevokeToken makes a token useless.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// People lists people by name.
func (c *Client) People(ctx context.Context, page api.Page) ([]api.Person, error) {
	return get[[]api.Person](ctx, c, "/people"+pageQuery(page))
}

// AddPerson adds somebody and gives the password made for them.
func (c *Client) AddPerson(ctx context.Context, n api.NewPerson) (out api.NewPassword, err error) {
	err = c.call(ctx, http.MethodPost, "/people", n, &out)
	return out, err
}

func personPath(name string) string { return "/people/" + url.PathEscape(name) }

// ChangePerson changes what somebody may do.
func (c *Client) ChangePerson(ctx context.Context, name string, in api.PersonChange) (out api.Person, err error) {
	err = c.call(ctx, http.MethodPut, personPath(name), in, &out)
	return out, err
}

// ResetPassword makes somebody a new password.
func (c *Client) ResetPassword(ctx context.Context, name string) (out api.NewPassword, err error) {
	err = c.call(ctx, http.MethodPost, personPath(name)+"/password", nil, &out)
	return out, err
}

// Groups lists groups by name.
func (c *Client) Groups(ctx context.Context, page api.Page) ([]api.Group, error) {
	return get[[]api.Group](ctx, c, "/groups"+pageQuery(page))
}

// SetGroup makes a group or changes it.
func (c *Client) SetGroup(ctx context.Context, name string, in api.GroupChange) (out api.Group, err error) {
	err = c.call(ctx, http.MethodPut, "/groups/"+url.PathEscape(name), in, &out)
	return out, err
}

// DropGroup removes a group.
func (c *Client) DropGroup(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/groups/"+url.PathEscape(name), nil, nil)
}

// Roles lists who has which role in a project; in any, which only an administrator may, when project is "".
func (c *Client) Roles(ctx context.Context, project string, page api.Page) ([]api.Grant, error) {
	if project == "" {
		return get[[]api.Grant](ctx, c, "/roles"+pageQuery(page))
	}
	return get[[]api.Grant](ctx, c, projectPath(project)+"/roles"+pageQuery(page))
}

// Grant gives a role.
func (c *Client) Grant(ctx context.Context, g api.Grant) error {
	return c.call(ctx, http.MethodPut, "/roles", g, nil)
}

// TakeRole takes a role away.
func (c *Client) TakeRole(ctx context.Context, g api.Grant) error {
	return c.call(ctx, http.MethodPost, "/roles/take", g, nil)
}
