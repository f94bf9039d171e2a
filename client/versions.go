package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// Raise takes the next version of an app from the ledger, for the run of an attempt. The same run gets the same again.
func (c *Client) Raise(ctx context.Context, attempt record.AttemptID, in api.RaiseRequest) (out api.Raised, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/raise", in, &out)
	return out, err
}

// Land brings the run's version back into the repository. When After is set another run lands before: ask again.
func (c *Client) Land(ctx context.Context, attempt record.AttemptID, in api.LandRequest) (out api.Landed, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/land", in, &out)
	return out, err
}

// Ledger lists the versions that were handed out in a project, the newest first.
func (c *Client) Ledger(ctx context.Context, project string, f api.LedgerFilter) (api.Ledger, error) {
	return get[api.Ledger](ctx, c, projectPath(project)+"/ledger"+query{"app": f.App, "platform": f.Platform,
		"state": f.State, "contains": f.Contains, "before": f.Before}.listed(f.Limit))
}

// SetLedgerFloor says which build number a store had before: the next is above it.
func (c *Client) SetLedgerFloor(ctx context.Context, project string, in api.LedgerFloor) error {
	return c.call(ctx, http.MethodPut, projectPath(project)+"/ledger/floor", in, nil)
}

func releasePath(project string, at api.ReleasePath) string {
	return projectPath(project) + "/releases/" + url.PathEscape(at.App) + "/" + url.PathEscape(at.Name)
}

func notesPath(project string, at api.ReleasePath) string { return releasePath(project, at) + "/notes" }

// Notes gives what is told of a release.
func (c *Client) Notes(ctx context.Context, project string, at api.ReleasePath) (api.ReleaseNotes, error) {
	return get[api.ReleaseNotes](ctx, c, notesPath(project, at))
}

// CorrectNotes writes what a person says instead of a draft, in one language.
func (c *Client) CorrectNotes(ctx context.Context, project string, at api.ReleasePath, language string,
	in api.NotesCorrection) error {
	return c.call(ctx, http.MethodPut, notesPath(project, at)+"/"+url.PathEscape(language), in, nil)
}

// TakeBackNotes makes notes in one language those of the draft again.
func (c *Client) TakeBackNotes(ctx context.Context, project string, at api.ReleasePath, language string,
	revision int) error {
	path := notesPath(project, at) + "/" + url.PathEscape(language) + "?revision=" + strconv.Itoa(revision)
	return c.call(ctx, http.MethodDelete, path, nil, nil)
}
