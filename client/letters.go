package client

import (
	"context"
	"net/http"

	"gentlepiston.example/piston/api"
)

// Letters lists what was sent by mail, or is to be, newest first.
func (c *Client) Letters(ctx context.Context, f api.LetterFilter) (api.LetterPage, error) {
	return get[api.LetterPage](ctx, c, "/letters"+
		query{"state": f.State, "contains": f.Contains, "before": f.Before}.listed(f.Limit))
}

// SetMail says where somebody gets mail; with no name where one does oneself.
func (c *Client) SetMail(ctx context.Context, name, mail string) error {
	path := "/session/mail"
	if name != "" {
		path = personPath(name) + "/mail"
	}
	return c.call(ctx, http.MethodPut, path, api.MailAddress{Mail: mail}, nil)
}
