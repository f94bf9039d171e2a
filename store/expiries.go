package store

import (
	"context"

	"gentlepiston.example/piston/core/record"
)

// TellExpiry notes that an end was told of; ErrNotFound when it was before.
func (q Q) TellExpiry(ctx context.Context, project record.ProjectID, key string) error {
	return q.do(ctx, ErrNotFound, `INSERT INTO told_expiries (project_id, key) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
		project, key)
}
