package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
)

// The states of a letter.
const (
	LetterQueued  = "queued"
	LetterSent    = "sent"
	LetterRefused = "refused"
)

// Letter is something that is sent by mail.
type Letter struct {
	ID      record.LetterID `db:"id"`
	Key     string          `db:"key"`
	To      string          `db:"recipient"`
	Subject string          `db:"subject"`
	Plain   string          `db:"plain"`
	HTML    string          `db:"html"`
	Stop    string          `db:"stop"` // where such letters are ended; "" when they are not
	State   string          `db:"state"`
	Trouble string          `db:"trouble"`
	Queued  time.Time       `db:"queued_at"`
	Ended   *time.Time      `db:"ended_at"`
}

var letterColumns = columnsOf[Letter]("l")

// AddLetter writes one and gives its id; 0 when the same was written before.
func (q Q) AddLetter(ctx context.Context, l Letter) (id record.LetterID, err error) {
	err = q.get(ctx, &id, `INSERT INTO letters (key, recipient, subject, plain, html) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (key) DO NOTHING RETURNING id`, l.Key, l.To, l.Subject, l.Plain, l.HTML)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return id, err
}

// AddLetters writes many, and gives the ids of those that were not written before.
func (q Q) AddLetters(ctx context.Context, all []Letter) (ids []record.LetterID, err error) {
	var keys, to, subjects, plain, html, stop []string
	for _, l := range all {
		keys, to, subjects = append(keys, l.Key), append(to, l.To), append(subjects, l.Subject)
		plain, html, stop = append(plain, l.Plain), append(html, l.HTML), append(stop, l.Stop)
	}
	err = q.list(ctx, &ids, `INSERT INTO letters (key, recipient, subject, plain, html, stop)
		SELECT k, r, s, p, h, e FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[])
			AS x (k, r, s, p, h, e)
		ON CONFLICT (key) DO NOTHING RETURNING id`, keys, to, subjects, plain, html, stop)
	return ids, err
}

// LetterByID finds one.
func (q Q) LetterByID(ctx context.Context, id record.LetterID) (l Letter, err error) {
	err = q.get(ctx, &l, `SELECT `+letterColumns+` FROM letters l WHERE l.id = $1`, id)
	return l, err
}

// SetLetter writes what came of one.
func (q Q) SetLetter(ctx context.Context, id record.LetterID, state, trouble string) error {
	return q.do(ctx, ErrNotFound, `UPDATE letters SET state = $2, trouble = $3,
		ended_at = CASE WHEN $2 <> 'queued' THEN now() END WHERE id = $1 AND state = 'queued'`, id, state, trouble)
}

// LetterFilter narrows a list of letters. Zero fields do not.
type LetterFilter struct {
	State, Contains string // in the address
	Before          record.LetterID
	Limit           int
}

// Letters lists them, newest first.
func (q Q) Letters(ctx context.Context, f LetterFilter) (list []Letter, err error) {
	err = q.list(ctx, &list, `SELECT `+letterColumns+` FROM letters l WHERE ($1 = '' OR l.state = $1)
		AND strpos(l.recipient, $2) > 0 AND ($3 = 0 OR l.id < $3) ORDER BY l.id DESC LIMIT $4`, f.State, f.Contains,
		f.Before, f.Limit)
	return list, err
}

// SetMail writes where somebody gets mail.
func (q Q) SetMail(ctx context.Context, person record.PersonID, mail string) error {
	return q.do(ctx, ErrNotFound, `UPDATE people SET mail = $2 WHERE id = $1`, person, mail)
}

// PeopleWithMail lists those who may sign in and get mail.
func (q Q) PeopleWithMail(ctx context.Context) (list []Person, err error) {
	err = q.list(ctx, &list, `SELECT `+personColumns+` FROM people p WHERE p.mail <> '' AND NOT p.disabled
		ORDER BY p.name`)
	return list, err
}
