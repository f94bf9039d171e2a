package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

func webhookPath(project, name string) string {
	return projectPath(project) + "/webhooks/" + url.PathEscape(name)
}

// Webhooks lists whom programs are told by of what happens in a project.
func (c *Client) Webhooks(ctx context.Context, project string) ([]api.Webhook, error) {
	return get[[]api.Webhook](ctx, c, projectPath(project)+"/webhooks")
}

// SetWebhook has a program told of what happens. By what messages are signed is told once.
func (c *Client) SetWebhook(ctx context.Context, project, name string, in api.NewWebhook) (out api.Webhook, err error) {
	err = c.call(ctx, http.MethodPut, webhookPath(project, name), in, &out)
	return out, err
}

// DropWebhook has it told no more.
func (c *Client) DropWebhook(ctx context.Context, project, name string) error {
	return c.call(ctx, http.MethodDelete, webhookPath(project, name), nil, nil)
}

// TryWebhook sends something, to see whether it arrives.
func (c *Client) TryWebhook(ctx context.Context, project, name string) error {
	return c.call(ctx, http.MethodPost, webhookPath(project, name)+"/try", nil, nil)
}

// Messages lists what was sent to a webhook, the latest first.
func (c *Client) Messages(ctx context.Context, project, name string, f api.MessageFilter) (api.MessagePage, error) {
	return get[api.MessagePage](ctx, c, webhookPath(project, name)+"/messages"+
		query{"state": f.State, "before": f.Before}.listed(f.Limit))
}

// ResendMessage sends a message again.
func (c *Client) ResendMessage(ctx context.Context, project, name string, id record.MessageID) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("%s/messages/%d/again", webhookPath(project, name), id), nil, nil)
}

// Wishes tells what I am told of by mail.
func (c *Client) Wishes(ctx context.Context) (api.Wishes, error) {
	return get[api.Wishes](ctx, c, "/wishes")
}

// SetWish chooses what I am told of.
func (c *Client) SetWish(ctx context.Context, in api.Wish) (out api.Wishes, err error) {
	err = c.call(ctx, http.MethodPut, "/wishes", in, &out)
	return out, err
}

// DropWish takes a choice back.
func (c *Client) DropWish(ctx context.Context, project string) error {
	return c.call(ctx, http.MethodDelete, "/wishes?project="+url.QueryEscape(project), nil, nil)
}

// Feed tells where a project's badge and feed are; anew: at another address from now on.
func (c *Client) Feed(ctx context.Context, project string, anew bool) (out api.Feed, err error) {
	err = c.call(ctx, http.MethodPost, projectPath(project)+"/feed", map[string]bool{"anew": anew}, &out)
	return out, err
}
