package client

import (
	"context"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

func identityPath(project, name string) string {
	return projectPath(project) + "/identities/" + url.PathEscape(name)
}

// Identities lists the signing keys in custody, without the keys.
func (c *Client) Identities(ctx context.Context, project string, page api.Page) ([]api.Identity, error) {
	return get[[]api.Identity](ctx, c, projectPath(project)+"/identities"+pageQuery(page))
}

// Identity tells of one.
func (c *Client) Identity(ctx context.Context, project, name string) (api.Identity, error) {
	return get[api.Identity](ctx, c, identityPath(project, name))
}

// SetIdentity writes an identity's next key: made by the service, or taken over.
func (c *Client) SetIdentity(ctx context.Context, project, name string, in api.NewIdentity) (out api.Identity,
	err error) {
	err = c.call(ctx, http.MethodPut, identityPath(project, name), in, &out)
	return out, err
}

// ChangeIdentity says something about an identity.
func (c *Client) ChangeIdentity(ctx context.Context, project, name string, in api.IdentitySettings) (out api.Identity,
	err error) {
	err = c.call(ctx, http.MethodPut, identityPath(project, name)+"/settings", in, &out)
	return out, err
}

// AddProfile lays a provisioning profile with an identity.
func (c *Client) AddProfile(ctx context.Context, project, name string, in api.NewProfile) (out api.Identity,
	err error) {
	err = c.call(ctx, http.MethodPost, identityPath(project, name)+"/profiles", in, &out)
	return out, err
}

// ExportIdentity gives a copy of a key, under a passphrase.
func (c *Client) ExportIdentity(ctx context.Context, project, name string,
	in api.IdentityExport) (out api.ExportedIdentity, err error) {
	err = c.call(ctx, http.MethodPost, identityPath(project, name)+"/export", in, &out)
	return out, err
}

// DropIdentity removes an identity with all its keys.
func (c *Client) DropIdentity(ctx context.Context, project, name string) error {
	return c.call(ctx, http.MethodDelete, identityPath(project, name), nil, nil)
}

// AppCertificates lists by which certificates a project's apps are signed.
func (c *Client) AppCertificates(ctx context.Context, project string) ([]api.AppCertificate, error) {
	return get[[]api.AppCertificate](ctx, c, projectPath(project)+"/app-certificates")
}

// AllowCertificate says that an app may be signed by another certificate from now on.
func (c *Client) AllowCertificate(ctx context.Context, project string, in api.AllowCertificate) error {
	return c.call(ctx, http.MethodPut, projectPath(project)+"/app-certificates", in, nil)
}

// Signatures lists who signed what with which key, newest first.
func (c *Client) Signatures(ctx context.Context, project string, f api.SignatureFilter) (api.SignaturePage, error) {
	return get[api.SignaturePage](ctx, c, projectPath(project)+"/signatures"+
		query{"identity": f.Identity, "app": f.App, "run": f.Run, "before": f.Before}.listed(f.Limit))
}

// SigningIdentity tells an attempt by whom a package is to be signed.
func (c *Client) SigningIdentity(ctx context.Context, attempt record.AttemptID,
	in api.IdentityRequest) (out api.SigningIdentity, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/identity", in, &out)
	return out, err
}

// Sign gives an attempt a signature over a digest.
func (c *Client) Sign(ctx context.Context, attempt record.AttemptID,
	in api.SignatureRequest) (out api.MadeSignature, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/signatures", in, &out)
	return out, err
}
