package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"gentlepiston.example/piston/api"
)

// Letters lists what was sent by mail, or is to be, newest first.
func (c *Client) Letters(ctx context.Context, f api.LetterFilter) (api.LetterPage, error) {
	q := url.Values{"limit": {strconv.Itoa(max(f.Limit, 1))}}
	for name, text := range map[string]string{"state": f.State, "contains": f.Contains} {
		if text != "" {
			q.Set(name, text)
		}
	}
	if f.Before > 0 {
		q.Set("before", strconv.FormatInt(int64(f.Before), 10))
	}
	return get[api.LetterPage](ctx, c, "/letters?"+q.Encode())
}

// SetMail says where somebody gets mail; with no name where one does oneself.
func (c *Client) SetMail(ctx context.Context, name, mail string) error {
	path := "/session/mail"
	if name != "" {
		path = personPath(name) + "/mail"
	}
	return c.call(ctx, http.MethodPut, path, api.MailAddress{Mail: mail}, nil)
}
