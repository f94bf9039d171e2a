package client

import (
	"context"
	"fmt"
	"net/url"

	"gentlepiston.example/piston/api"
)

// AuditQuery narrows the audit trail; empty fields match all.
type AuditQuery struct {
	Project, Who, Act, Subject, Since, Until string
	Before                                   int64
	Limit                                    int
}

// Audit reads who did what, newest first: of one project when it is named, otherwise of everything, which only an
// administrator may.
func (c *Client) Audit(ctx context.Context, f AuditQuery) (api.AuditPage, error) {
	q := url.Values{}
	for name, value := range map[string]string{"who": f.Who, "act": f.Act, "subject": f.Subject, "since": f.Since,
		"until": f.Until} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.Before > 0 {
		q.Set("before", fmt.Sprint(f.Before))
	}
	if f.Limit > 0 {
		q.Set("limit", fmt.Sprint(f.Limit))
	}
	at := "/audit?"
	if f.Project != "" {
		at = projectPath(f.Project) + at
	}
	return get[api.AuditPage](ctx, c, at+q.Encode())
}
