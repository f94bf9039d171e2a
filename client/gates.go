package client

import (
	"context"
	"fmt"
	"net/http"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// GateFilter narrows a list of gates. Zero fields do not.
type GateFilter struct {
	Project    string
	Open, Mine bool
	Before     int64
	Limit      int
}

// Gates lists what people are asked, newest first.
func (c *Client) Gates(ctx context.Context, f GateFilter) (api.GatePage, error) {
	return get[api.GatePage](ctx, c, "/gates"+
		query{"open": f.Open, "mine": f.Mine, "project": f.Project, "before": f.Before}.listed(f.Limit))
}

// Answer says yes or no at a gate.
func (c *Client) Answer(ctx context.Context, project string, gate record.GateID, in api.GateAnswer) (g api.Gate,
	err error) {
	err = c.call(ctx, http.MethodPost, fmt.Sprintf("%s/gates/%d/answer", projectPath(project), gate), in, &g)
	return g, err
}
