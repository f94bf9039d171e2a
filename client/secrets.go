package client

import (
	"context"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
)

func secretPath(project, name string) string {
	return projectPath(project) + "/secrets/" + url.PathEscape(name)
}

// Secrets lists secrets by name, without their values.
func (c *Client) Secrets(ctx context.Context, project string, page api.Page) ([]api.Secret, error) {
	return get[[]api.Secret](ctx, c, projectPath(project)+"/secrets"+pageQuery(page))
}

// SetSecret sets a secret's next revision.
func (c *Client) SetSecret(ctx context.Context, project, name string, in api.NewSecret) (out api.Secret, err error) {
	err = c.call(ctx, http.MethodPut, secretPath(project, name), in, &out)
	return out, err
}

// ChangeSecret says something about a secret.
func (c *Client) ChangeSecret(ctx context.Context, project, name string, in api.SecretSettings) (out api.Secret,
	err error) {
	err = c.call(ctx, http.MethodPut, secretPath(project, name)+"/settings", in, &out)
	return out, err
}

// Revisions lists the values of a secret that are kept, without the values.
func (c *Client) Revisions(ctx context.Context, project, name string) ([]api.SecretRevision, error) {
	return get[[]api.SecretRevision](ctx, c, secretPath(project, name)+"/revisions")
}

// RestoreSecret puts an earlier value back.
func (c *Client) RestoreSecret(ctx context.Context, project, name string, revision int) (out api.Secret, err error) {
	err = c.call(ctx, http.MethodPost, secretPath(project, name)+"/restore", api.RestoreSecret{Revision: revision}, &out)
	return out, err
}

// DropSecret removes a secret.
func (c *Client) DropSecret(ctx context.Context, project, name string) error {
	return c.call(ctx, http.MethodDelete, secretPath(project, name), nil, nil)
}

// RotateMaster encrypts every secret anew.
func (c *Client) RotateMaster(ctx context.Context) (out api.MasterRotation, err error) {
	err = c.call(ctx, http.MethodPost, "/master/rotation", nil, &out)
	return out, err
}
