package store

import (
	"context"
	"time"
)

// Home is the data folder with the blobs and the stream that the records speak of.
type Home struct {
	ID    string    `db:"id"`
	Place string    `db:"place"` // machine and folder, for people
	Since time.Time `db:"since"`
}

// ClaimHome makes a data folder the records' own, unless they have one, and tells which it is.
func (q Q) ClaimHome(ctx context.Context, id, place string) (h Home, err error) {
	if err := q.do(ctx, nil, `INSERT INTO home (id, place) VALUES ($1, $2) ON CONFLICT (one) DO NOTHING`, id,
		place); err != nil {
		return h, err
	}
	err = q.get(ctx, &h, `SELECT id, place, since FROM home`)
	return h, err
}

// MoveHome makes another data folder the records' own.
func (q Q) MoveHome(ctx context.Context, id, place string) error {
	return q.do(ctx, ErrNotFound, `UPDATE home SET id = $1, place = $2, since = now()`, id, place)
}
