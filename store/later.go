package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivermigrate"
)

// Later is the work that is put off, kept in the records: whoever commits a transaction commits what is to be done
// after it, and one server of all does it.
type Later = river.Client[*sql.Tx]

// Later opens it. The configuration says what a server can do of it.
func (s *Store) Later(config *river.Config) (*Later, error) {
	return river.NewClient(riverdatabasesql.New(s.db.DB), config)
}

// errNoTx is the fault of putting something off outside a transaction.
var errNoTx = errors.New("what is put off belongs into the transaction of what it follows from")

// PutOff writes what is to be done once the transaction is committed.
func (q Q) PutOff(ctx context.Context, later *Later, all []river.InsertManyParams) error {
	tx, is := q.x.(*sqlx.Tx)
	if !is {
		return errNoTx
	}
	if len(all) == 0 {
		return nil
	}
	_, err := later.InsertManyFastTx(ctx, tx.Tx, all)
	return err
}

// ReviveLater lets others do what servers had in hand whose ids begin so, and that are there no more.
func (q Q) ReviveLater(ctx context.Context, servers string) error {
	return q.do(ctx, nil, `UPDATE river_job SET state = 'available', scheduled_at = now() WHERE state = 'running'
		AND starts_with(attempted_by[array_upper(attempted_by, 1)], $1)`, servers)
}

// laterSchema makes the tables of what is put off.
func laterSchema(ctx context.Context, db *sql.DB) error {
	m, err := rivermigrate.New(riverdatabasesql.New(db), nil)
	if err != nil {
		return err
	}
	_, err = m.Migrate(ctx, rivermigrate.DirectionUp, nil)
	return err
}
