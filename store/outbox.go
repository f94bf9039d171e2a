package store

import (
	"context"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Change tells that a run, or something of it, is in another state.
type Change struct {
	Project string           `json:"project"`
	Run     record.RunNumber `json:"run"`
	State   state.State      `json:"state"`
}

// Outgoing is an event that waits to be published.
type Outgoing struct {
	ID        int64            `db:"id"`
	ProjectID record.ProjectID `db:"project_id"`
	Run       record.RunNumber `db:"run"`
	Body      JSON[Change]     `db:"body"`
}

// AddEvent writes an event into the outbox, in the transaction of what it tells.
func (q Q) AddEvent(ctx context.Context, project record.ProjectID, c Change) error {
	return q.do(ctx, nil, `INSERT INTO outbox (project_id, run, body) VALUES ($1, $2, $3)`, project, c.Run, asJSON(c))
}

// EventsAtOnce is how many events are read at most.
const EventsAtOnce = 200

// Outbox reads up to EventsAtOnce events that wait to be published, oldest first. They wait until DropEvents.
func (q Q) Outbox(ctx context.Context) (list []Outgoing, err error) {
	err = q.list(ctx, &list, `SELECT `+columnsOf[Outgoing]("outbox")+` FROM outbox ORDER BY id LIMIT $1`, EventsAtOnce)
	return list, err
}

// DropEvents removes events that were published.
func (q Q) DropEvents(ctx context.Context, ids []int64) error {
	return q.do(ctx, nil, `DELETE FROM outbox WHERE id = ANY($1)`, ids)
}
