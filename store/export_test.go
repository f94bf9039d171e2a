package store

import "context"

// Exec runs a statement of a test.
func Exec(ctx context.Context, q Q, statement string) error { return q.do(ctx, nil, statement) }
