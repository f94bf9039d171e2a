package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"

	"gentlepiston.example/piston/api"
)

// openSession signs in, for what a token is not allowed to do. The client it gives comes by the session.
func (c *Client) openSession(ctx context.Context, path string, who any) (*Client, error) {
	text, err := json.Marshal(who)
	if err != nil {
		return nil, err
	}
	res, err := c.request(ctx, http.MethodPost, prefix+path, bytes.NewReader(text), "application/json")
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	in := *c
	in.Token, in.TokenFile, in.cookies = "", "", res.Cookies()
	return &in, nil
}

// signedInFor is how many days a token lasts that signing in makes.
const signedInFor = 90

// SignIn signs in by password and makes an API token of the given name; the session is ended again.
func (c *Client) SignIn(ctx context.Context, who api.Credentials, tokenName string) (issued api.IssuedToken,
	err error) {
	s, err := c.openSession(ctx, "/session", who)
	if err != nil {
		return issued, err
	}
	return s.tokenOfSession(ctx, tokenName)
}

// tokenOfSession makes a token, and ends the session.
func (c *Client) tokenOfSession(ctx context.Context, tokenName string) (issued api.IssuedToken, err error) {
	if err := c.call(ctx, http.MethodPost, "/tokens",
		api.NewToken{Name: tokenName, Kind: api.PersonToken, Days: signedInFor}, &issued); err != nil {
		return issued, err
	}
	return issued, c.SignOut(ctx)
}

// SignOut makes the client's token useless, or ends its session.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/session", nil, nil)
}

// Me tells who the client comes as.
func (c *Client) Me(ctx context.Context) (me api.Me, err error) {
	err = c.call(ctx, http.MethodGet, "/session", nil, &me)
	return me, err
}

// ChangePassword changes one's own password; tokens stay good.
func (c *Client) ChangePassword(ctx context.Context, who api.Credentials, next string) error {
	s, err := c.openSession(ctx, "/session", who)
	if err != nil {
		return err
	}
	return s.call(ctx, http.MethodPut, "/session/password", api.OwnPassword{Old: who.Password, New: next}, nil)
}
