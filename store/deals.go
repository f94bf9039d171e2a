package store

import (
	"context"

	"gentlepiston.example/piston/core/deal"
	"gentlepiston.example/piston/core/record"
)

// Dealt is what was dealt among the variants of a job.
type Dealt struct {
	Digest []byte             `db:"digest"` // of the list
	Shares JSON[[]deal.Share] `db:"shares"` // in the order of the variants
	Known  int                `db:"known"`  // for how many of it a time is
}

// AddDeal writes what is dealt at a place of a run, unless that was done before, and gives what counts.
func (q Q) AddDeal(ctx context.Context, run record.RunID, place string, d Dealt) (was Dealt, err error) {
	err = q.get(ctx, &was, `INSERT INTO deals AS d (run_id, place, digest, shares, known) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (run_id, place) DO UPDATE SET known = d.known RETURNING d.digest, d.shares, d.known`, run, place,
		d.Digest, asJSON(d.Shares.V), d.Known)
	return was, err
}

// DealAt finds what was dealt at a place of a run.
func (q Q) DealAt(ctx context.Context, run record.RunID, place string) (d Dealt, err error) {
	err = q.get(ctx, &d, `SELECT digest, shares, known FROM deals WHERE run_id = $1 AND place = $2`, run, place)
	return d, err
}

// UsualTimes lists what the cases of a job, or of its variants, usually take; of those that have ever passed.
func (q Q) UsualTimes(ctx context.Context, project record.ProjectID, pipeline, job string, most int) (list []deal.Case,
	err error) {
	err = q.list(ctx, &list, `SELECT suite, name, usual_ms FROM cases WHERE project_id = $1 AND pipeline = $2
		AND (job = $3 OR starts_with(job, $3 || '+')) AND usual_ms >= 0 ORDER BY last_run DESC, id LIMIT $4`, project,
		pipeline, job, most)
	return list, err
}
