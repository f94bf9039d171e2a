package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Act is an entry of the audit trail. The database itself refuses to change or remove one.
type Act struct {
	ID      int64          `db:"id"`
	At      time.Time      `db:"at"`
	Who     string         `db:"who"`
	Door    string         `db:"door"`
	Token   record.TokenID `db:"token"`
	Address string         `db:"address"`
	Act     string         `db:"act"`
	Project string         `db:"project"`
	Subject string         `db:"subject"`
	Before  []byte         `db:"before"` // JSON; nil none
	After   []byte         `db:"after"`
}

// AddAct writes an entry.
func (q Q) AddAct(ctx context.Context, a Act) error {
	return q.do(ctx, nil,
		`INSERT INTO audit (who, door, token, address, act, project, subject, before, after) VALUES ($1, $2, $3, $4, $5, $6,
			$7, $8, $9)`,
		a.Who, a.Door, a.Token, a.Address, a.Act, a.Project, a.Subject, a.Before, a.After)
}

// ActFilter says which entries are wanted; empty fields match all.
type ActFilter struct {
	Who, Act, Project, Subject string
	Since, Until               *time.Time
	Before                     int64 // only ids below
	Limit                      int
}

// Acts lists entries, newest first. Act may be the beginning of a word, up to a dot.
func (q Q) Acts(ctx context.Context, f ActFilter) (list []Act, err error) {
	err = q.list(ctx, &list,
		`SELECT `+columnsOf[Act]("audit")+
			` FROM audit WHERE ($1 = '' OR who = $1) AND ($2 = '' OR act = $2 OR starts_with(act, $2 || '.'))
		AND ($3 = '' OR project = $3) AND ($4 = '' OR subject = $4) AND ($5::timestamptz IS NULL OR at >= $5)
		AND ($6::timestamptz IS NULL OR at < $6)
		AND ($7 = 0 OR id < $7) ORDER BY id DESC LIMIT $8`, f.Who, f.Act, f.Project, f.Subject, f.Since, f.Until, f.Before,
		f.Limit)
	return list, err
}
