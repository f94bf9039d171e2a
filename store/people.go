package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
)

// Person is someone who may sign in.
type Person struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	PasswordHash string `db:"password_hash"`
}

// AddPerson adds someone; ErrExists when the name is taken.
func (q Q) AddPerson(ctx context.Context, name, passwordHash string) error {
	return q.do(ctx, nil, `INSERT INTO people (name, password_hash) VALUES ($1, $2)`, name, passwordHash)
}

// PersonByName finds someone.
func (q Q) PersonByName(ctx context.Context, name string) (p Person, err error) {
	err = q.get(ctx, &p, `SELECT id, name, password_hash FROM people WHERE name = $1`, name)
	return p, err
}

// CountPeople tells how many there are.
func (q Q) CountPeople(ctx context.Context) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM people`)
	return n, err
}

// AddSession opens a session known by the hash of its token.
func (q Q) AddSession(ctx context.Context, tokenHash []byte, person int64, until time.Time) error {
	return q.do(ctx, nil, `INSERT INTO sessions (token_hash, person_id, expires_at) VALUES ($1, $2, $3)`, tokenHash, person, until)
}

// SessionPerson finds who has an unexpired session.
func (q Q) SessionPerson(ctx context.Context, tokenHash []byte) (p Person, err error) {
	err = q.get(ctx, &p, `SELECT p.id, p.name, p.password_hash FROM sessions s JOIN people p ON p.id = s.person_id
		WHERE s.token_hash = $1 AND s.expires_at > now()`, tokenHash)
	return p, err
}

// EndSession closes a session.
func (q Q) EndSession(ctx context.Context, tokenHash []byte) error {
	return q.do(ctx, nil, `DELETE FROM sessions WHERE token_hash = $1`, tokenHash)
}

// DropExpiredSessions removes what can no longer be used.
func (q Q) DropExpiredSessions(ctx context.Context) error {
	return q.do(ctx, nil, `DELETE FROM sessions WHERE expires_at < now()`)
}

// Token is an API token's record.
type Token struct {
	ID       int64      `db:"id"`
	Name     string     `db:"name"`
	Kind     string     `db:"kind"`
	Person   string     `db:"person"`
	Created  time.Time  `db:"created_at"`
	LastUsed *time.Time `db:"last_used_at"`
}

const tokenColumns = `t.id, t.name, t.kind, coalesce(p.name, '') AS person, t.created_at, t.last_used_at
	FROM tokens t LEFT JOIN people p ON p.id = t.person_id`

// AddToken keeps a token's hash. person is 0 for a runner's.
func (q Q) AddToken(ctx context.Context, tokenHash []byte, name string, kind api.TokenKind, person int64) (t Token, err error) {
	err = q.get(ctx, &t, `WITH t AS (INSERT INTO tokens (token_hash, name, kind, person_id)
		VALUES ($1, $2, $3, nullif($4::bigint, 0)) RETURNING *)
		SELECT t.id, t.name, t.kind, coalesce(p.name, '') AS person, t.created_at, t.last_used_at
		FROM t LEFT JOIN people p ON p.id = t.person_id`, tokenHash, name, string(kind), person)
	return t, err
}

// TokenByHash finds a token and notes its use, at most once a minute.
func (q Q) TokenByHash(ctx context.Context, tokenHash []byte) (t Token, err error) {
	if err = q.get(ctx, &t, `SELECT `+tokenColumns+` WHERE t.token_hash = $1`, tokenHash); err != nil {
		return t, err
	}
	if t.LastUsed == nil || time.Since(*t.LastUsed) > time.Minute {
		err = q.do(ctx, nil, `UPDATE tokens SET last_used_at = now() WHERE id = $1`, t.ID)
	}
	return t, err
}

// Tokens lists all, oldest first.
func (q Q) Tokens(ctx context.Context) (list []Token, err error) {
	err = q.list(ctx, &list, `SELECT `+tokenColumns+` ORDER BY t.id`)
	return list, err
}

// RevokeToken removes a token.
func (q Q) RevokeToken(ctx context.Context, id int64) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM tokens WHERE id = $1`, id)
}
