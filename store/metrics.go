package store

import "context"

// Metrics are numbers of the service that programs watch.
type Metrics struct {
	Runs     int64 `db:"runs"` // ever
	Queued   int64 `db:"queued"`
	AtWork   int64 `db:"at_work"`
	Waiting  int64 `db:"waiting"`
	Jobs     int64 `db:"jobs"`    // that wait for a machine
	Running  int64 `db:"running"` // that machines have
	Runners  int64 `db:"runners"` // seen within a minute
	Slots    int64 `db:"slots"`
	Messages int64 `db:"messages"` // to webhooks, on their way
	Letters  int64 `db:"letters"`
	Pushes   int64 `db:"pushes"` // not planned yet
}

// Metrics counts, by indexes of what is open.
func (q Q) Metrics(ctx context.Context) (m Metrics, err error) {
	err = q.get(ctx, &m, `SELECT (SELECT coalesce(sum(last_run), 0)::bigint FROM projects) AS runs,
		(SELECT count(*) FROM runs WHERE state = 'queued') AS queued,
		(SELECT count(*) FROM runs WHERE state = 'running') AS at_work,
		(SELECT count(*) FROM runs WHERE state = 'waiting') AS waiting,
		(SELECT count(*) FROM attempts WHERE state = 'queued') AS jobs,
		(SELECT count(*) FROM attempts WHERE state = 'running') AS running,
		(SELECT count(*) FROM runners WHERE seen_at > now() - interval '1 minute') AS runners,
		(SELECT coalesce(sum(slots), 0)::bigint FROM runners WHERE seen_at > now() - interval '1 minute') AS slots,
		(SELECT count(*) FROM messages WHERE state = 'queued') AS messages,
		(SELECT count(*) FROM letters WHERE state = 'queued') AS letters,
		(SELECT count(*) FROM pushes WHERE planned_at IS NULL) AS pushes`)
	return m, err
}
