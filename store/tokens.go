package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
)

// Token is an API token's record.
type Token struct {
	ID        record.TokenID   `db:"id"`
	Name      string           `db:"name"`
	Kind      string           `db:"kind"`
	Person    string           `db:"person"`
	PersonID  record.PersonID  `db:"person_id"`
	Role      access.Role      `db:"role"`       // the most it may do; "" as its person
	ProjectID record.ProjectID `db:"project_id"` // the only project it is for; 0 any
	Project   string           `db:"project"`
	Created   time.Time        `db:"created_at"`
	Expires   *time.Time       `db:"expires_at"`
	LastUsed  *time.Time       `db:"last_used_at"`
	MadeBy    string           `db:"made_by"`
}

const tokenColumns = `t.id, t.name, t.kind, coalesce(p.name, '') AS person, coalesce(t.person_id, 0) AS person_id,
	t.role,
	coalesce(t.project_id, 0) AS project_id, coalesce(j.name, '') AS project, t.created_at, t.expires_at, t.last_used_at,
	t.made_by`

const tokenJoins = ` LEFT JOIN people p ON p.id = t.person_id LEFT JOIN projects j ON j.id = t.project_id`

const tokensFrom = ` FROM tokens t` + tokenJoins

// NewToken is a token to keep.
type NewToken struct {
	Hash     []byte
	Name     string
	Kind     string
	PersonID record.PersonID // 0 for a runner's
	Role     access.Role
	Project  record.ProjectID // 0 any
	Expires  *time.Time
	MadeBy   string // who made it
}

// AddToken keeps a token's hash.
func (q Q) AddToken(ctx context.Context, n NewToken) (t Token, err error) {
	err = q.get(ctx, &t, `WITH t AS (INSERT INTO tokens (token_hash, name, kind, person_id, role, project_id, expires_at,
		made_by)
		VALUES ($1, $2, $3, nullif($4::bigint, 0), $5, nullif($6::bigint, 0), $7, $8) 
		RETURNING id, name, kind, person_id, role, project_id, created_at, expires_at, last_used_at, made_by)
		SELECT `+tokenColumns+` FROM t`+tokenJoins,
		n.Hash, n.Name, n.Kind, n.PersonID, string(n.Role), n.Project, n.Expires, n.MadeBy)
	return t, err
}

// TokenByHash finds a token that is still good, and its person; it notes its use, at most once a minute.
func (q Q) TokenByHash(ctx context.Context, hash []byte) (t Token, err error) {
	if err = q.get(ctx, &t,
		`SELECT `+tokenColumns+tokensFrom+` WHERE t.token_hash = $1 AND (p.id IS NULL OR NOT p.disabled)`, hash); err != nil {
		return t, err
	}
	if t.LastUsed == nil || time.Since(*t.LastUsed) > time.Minute {
		err = q.do(ctx, nil, `UPDATE tokens SET last_used_at = now() WHERE id = $1`, t.ID)
	}
	return t, err
}

// Tokens lists up to limit tokens after an id, oldest first, with a text in their name or their person's: those of a
// person, or all when person is 0.
func (q Q) Tokens(ctx context.Context, person record.PersonID, after int64, contains string, limit int) (list []Token,
	err error) {
	err = q.list(ctx, &list, `SELECT `+tokenColumns+tokensFrom+` WHERE ($1 = 0 OR t.person_id = $1) AND t.id > $2
		AND strpos(lower(concat_ws(' ', t.name, p.name)), lower($3)) > 0 ORDER BY t.id LIMIT $4`, person, after, contains,
		limit)
	return list, err
}

// TokenByID finds a token.
func (q Q) TokenByID(ctx context.Context, id record.TokenID) (t Token, err error) {
	err = q.get(ctx, &t, `SELECT `+tokenColumns+tokensFrom+` WHERE t.id = $1`, id)
	return t, err
}

// RevokeToken removes a token.
func (q Q) RevokeToken(ctx context.Context, id record.TokenID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM tokens WHERE id = $1`, id)
}

// RunnerTokensBy lists the names of runners' tokens that somebody made and that still stand.
func (q Q) RunnerTokensBy(ctx context.Context, person string) (names []string, err error) {
	err = q.list(ctx, &names,
		`SELECT name FROM tokens WHERE kind = 'runner' AND made_by = $1 AND (expires_at IS NULL OR expires_at > now())
			ORDER BY name`, person)
	return names, err
}
