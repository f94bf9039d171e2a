package client

import (
	"context"
	"fmt"
	"net/http"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// Judge has packages that an attempt has looked into held against the checklist.
func (c *Client) Judge(ctx context.Context, attempt record.AttemptID, in api.PackagesSeen) (out api.Judged, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/packages", in, &out)
	return out, err
}

// Packages lists those that runs of a project have made, newest first.
func (c *Client) Packages(ctx context.Context, project string, f api.PackageFilter) (api.PackagePage, error) {
	return get[api.PackagePage](ctx, c, projectPath(project)+"/packages"+query{"app": f.App, "kind": f.Kind,
		"version": f.Version, "commit": f.Commit, "sha256": f.SHA256, "build_id": f.BuildID, "run": f.Run,
		"before": f.Before}.listed(f.Limit))
}

// Package tells all of one, and how it differs from the one before it.
func (c *Client) Package(ctx context.Context, project string, id record.PackageID) (api.PackageDetail, error) {
	return get[api.PackageDetail](ctx, c, fmt.Sprintf("%s/packages/%d", projectPath(project), id))
}

// Provenance states from what a package was built.
func (c *Client) Provenance(ctx context.Context, project string, id record.PackageID) (api.Provenance, error) {
	return get[api.Provenance](ctx, c, fmt.Sprintf("%s/packages/%d/provenance", projectPath(project), id))
}

// Bill states what a package is made of.
func (c *Client) Bill(ctx context.Context, project string, id record.PackageID) (api.Provenance, error) {
	return get[api.Provenance](ctx, c, fmt.Sprintf("%s/packages/%d/bill", projectPath(project), id))
}

// StatementKey is what statements of the service are checked with.
func (c *Client) StatementKey(ctx context.Context) (api.StatementKey, error) {
	return get[api.StatementKey](ctx, c, "/statement-key")
}
