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
	ID        int64        `db:"id"`
	ProjectID int64        `db:"project_id"`
	Run       int64        `db:"run"`
	Body      JSON[Change] `db:"body"`
}

// AddEvent writes an event into the outbox, in the transaction of what it tells.
func (q Q) AddEvent(ctx context.Context, project record.ProjectID, c Change) error {
	return q.do(ctx, nil, `INSERT INTO outbox (project_id, run, body) VALUES ($1, $2, $3)`, project, c.Run, asJSON(c))
}

// EventsAtOnce is how many events are taken at most.
const EventsAtOnce = 200

// TakeEvents removes up to EventsAtOnce events from the outbox, oldest first; they are back if the transaction fails.
func (q Q) TakeEvents(ctx context.Context) (list []Outgoing, err error) {
	err = q.list(ctx, &list, `WITH taken AS (DELETE FROM outbox WHERE id IN
			(SELECT id FROM outbox ORDER BY id LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING `+columnsOf[Outgoing]("outbox")+`)
		SELECT `+columnsOf[Outgoing]("taken")+` FROM taken ORDER BY id`, EventsAtOnce)
	return list, err
}
