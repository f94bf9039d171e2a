package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
)

// Secret is a secret's record, with what is known of its current value.
type Secret struct {
	ID       record.SecretID  `db:"id"`
	Name     string           `db:"name"` // in the project that was asked about
	HomeID   record.ProjectID `db:"home_id"`
	Home     string           `db:"home"` // name of the project whose keepers set it
	Shared   Texts            `db:"shared"`
	Note     string           `db:"note"`
	Expires  *time.Time       `db:"expires_at"`
	Branches Texts            `db:"branches"`
	Tags     Texts            `db:"tags"`
	Pipes    Texts            `db:"pipelines"`
	UsedRun  record.RunNumber `db:"used_run"` // number of the last run that was given it; 0: none
	UsedIn   string           `db:"used_in"`  // its project
	Used     *time.Time       `db:"used_at"`
	Revision
}

// Scope is which runs may have it.
func (s Secret) Scope() access.Scope {
	return access.Scope{Pipelines: s.Pipes, Branches: s.Branches, Tags: s.Tags}
}

// Revision is one value a secret has had.
type Revision struct {
	Number     int       `db:"revision"`
	Kind       string    `db:"kind"`
	Ciphertext []byte    `db:"ciphertext"`
	Size       int       `db:"size"`
	Set        time.Time `db:"set_at"`
	By         string    `db:"set_by"`
	Restored   int       `db:"restored"`
	SealedTo   string    `db:"sealed_to"`
	// What the value says, when it is a provisioning profile.
	Profile JSON[profile.Profile] `db:"profile"`
}

const secretColumns = `s.id, n.name, s.home_id, h.name AS home, s.note, s.expires_at, s.branches, s.tags, s.pipelines,
	s.used_at,
	coalesce(u.number, 0) AS used_run, coalesce(up.name, '') AS used_in, r.revision, r.kind, r.ciphertext, r.size,
	r.set_at, r.set_by, r.restored, r.sealed_to, r.profile,
	ARRAY(SELECT p.name FROM secret_names o JOIN projects p ON p.id = o.project_id WHERE o.secret_id = s.id
	AND o.project_id <> s.home_id ORDER BY p.name) AS shared
	FROM secret_names n JOIN secrets s ON s.id = n.secret_id JOIN projects h ON h.id = s.home_id
	JOIN secret_revisions r ON r.secret_id = s.id AND r.revision = s.revision
	LEFT JOIN runs u ON u.id = s.used_run LEFT JOIN projects up ON up.id = u.project_id`

// Secrets lists the secrets a project may use, by name.
func (q Q) Secrets(ctx context.Context, project record.ProjectID, page Page) (list []Secret, err error) {
	err = q.list(ctx, &list, `SELECT `+secretColumns+` WHERE n.project_id = $4`+paged("n.name"),
		append(page.args(), project)...)
	return list, err
}

// LockSecrets holds which secrets a project has for the transaction.
func (q Q) LockSecrets(ctx context.Context, project record.ProjectID) error {
	return q.hold(ctx, secretsLock+int64(project))
}

// LockSecret holds a secret that a project may use for the transaction, so that changes to one go one after the other.
func (q Q) LockSecret(ctx context.Context, project record.ProjectID, name string) error {
	var id int64
	return q.get(ctx, &id,
		`SELECT s.id FROM secret_names n JOIN secrets s ON s.id = n.secret_id WHERE n.project_id = $1 AND n.name = $2
			FOR UPDATE OF s`, project, name)
}

// SecretByName finds a secret a project may use.
func (q Q) SecretByName(ctx context.Context, project record.ProjectID, name string) (s Secret, err error) {
	err = q.get(ctx, &s, `SELECT `+secretColumns+` WHERE n.project_id = $1 AND n.name = $2`, project, name)
	return s, err
}

// AddSecret makes a secret without a value, which AddRevision must give it in the same transaction; ErrExists when
// the project has one of that name.
func (q Q) AddSecret(ctx context.Context, project record.ProjectID, name string) (id record.SecretID, err error) {
	if err = q.get(ctx, &id, `INSERT INTO secrets (home_id, revision) VALUES ($1, 0) RETURNING id`, project); err != nil {
		return 0, err
	}
	return id, q.NameSecret(ctx, project, name, id)
}

// NameSecret lets a project use a secret under a name; ErrExists when the project has one of that name.
func (q Q) NameSecret(ctx context.Context, project record.ProjectID, name string, id record.SecretID) error {
	return q.do(ctx, nil, `INSERT INTO secret_names (project_id, name, secret_id) VALUES ($1, $2, $3)`, project, name, id)
}

// UnnameSecret takes a secret from a project that it was shared with.
func (q Q) UnnameSecret(ctx context.Context, project record.ProjectID, id record.SecretID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM secret_names WHERE project_id = $1 AND secret_id = $2`, project, id)
}

// keptRevisions is how many values of a secret are kept to go back to.
const keptRevisions = 10

// AddRevision writes a secret's next value; its number is returned. ErrMaster when that it is encrypted to is no more.
func (q Q) AddRevision(ctx context.Context, id record.SecretID, r Revision) (number int, err error) {
	if err = q.get(ctx, &number, `UPDATE secrets SET revision = revision + 1 WHERE id = $1 RETURNING revision`,
		id); err != nil {
		return 0, err
	}
	if err = q.do(ctx, nil,
		`INSERT INTO secret_revisions (secret_id, revision, kind, ciphertext, sealed_to, size, set_by, restored, profile)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, id, number, r.Kind, r.Ciphertext, r.SealedTo, r.Size, r.By,
		r.Restored, asJSON(r.Profile.V)); err != nil {
		return 0, err
	}
	return number, q.do(ctx, nil, `DELETE FROM secret_revisions WHERE secret_id = $1 AND revision <= $2`, id,
		number-keptRevisions)
}

const revisionColumns = `revision, kind, ciphertext, size, set_at, set_by, restored, sealed_to, profile
	FROM secret_revisions`

// Revisions lists the values of a secret that are kept, newest first.
func (q Q) Revisions(ctx context.Context, id record.SecretID) (list []Revision, err error) {
	err = q.list(ctx, &list, `SELECT `+revisionColumns+` WHERE secret_id = $1 ORDER BY revision DESC`, id)
	return list, err
}

// Revision finds one value of a secret, which stays encrypted as it is until the transaction's end.
func (q Q) Revision(ctx context.Context, id record.SecretID, number int) (r Revision, err error) {
	err = q.get(ctx, &r, `SELECT `+revisionColumns+` WHERE secret_id = $1 AND revision = $2 FOR SHARE`, id, number)
	return r, err
}

// ChangeSecret writes what is said about a secret besides its value.
func (q Q) ChangeSecret(ctx context.Context, id record.SecretID, note string, expires *time.Time,
	s access.Scope) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE secrets SET note = $2, expires_at = $3, pipelines = $4, branches = $5, tags = $6 WHERE id = $1`,
		id, note, expires, texts(s.Pipelines), texts(s.Branches), texts(s.Tags))
}

// texts is never null.
func texts(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// DropSecret removes a secret with all its values, from every project.
func (q Q) DropSecret(ctx context.Context, id record.SecretID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM secrets WHERE id = $1`, id)
}

// NoteSecretUse remembers which run was given secrets last.
func (q Q) NoteSecretUse(ctx context.Context, run record.RunID, ids []record.SecretID) error {
	return q.do(ctx, nil, `UPDATE secrets SET used_run = $1, used_at = now() WHERE id IN
		(SELECT id FROM secrets WHERE id = ANY($2) ORDER BY id FOR NO KEY UPDATE)`, run,
		ids) // in one order, or two could wait for each other
}

// Master is an identity that records are or were encrypted under: its recipient, and something only it opens.
type Master struct {
	Recipient string `db:"recipient"`
	Proof     []byte `db:"proof"`
}

// Masters lists them, newest first.
func (q Q) Masters(ctx context.Context) (list []Master, err error) {
	err = q.list(ctx, &list, `SELECT recipient, proof FROM masters ORDER BY made_at DESC, recipient`)
	return list, err
}

// AddMaster notes one; one that is known already stays.
func (q Q) AddMaster(ctx context.Context, m Master) error {
	return q.do(ctx, nil, `INSERT INTO masters (recipient, proof) VALUES ($1, $2) ON CONFLICT DO NOTHING`, m.Recipient,
		m.Proof)
}

// KeepMaster forgets all masters but one; ErrMaster when a record needs another, as one may that was written a moment
// ago.
func (q Q) KeepMaster(ctx context.Context, recipient string) error {
	return q.do(ctx, nil, `DELETE FROM masters WHERE recipient <> $1`, recipient)
}

// Sealed is an encrypted record.
type Sealed struct {
	Of         sealedOf `db:"of"`
	ID         int64    `db:"id"`
	Revision   int      `db:"revision"` // of a secret's value; 0 for others
	Ciphertext []byte   `db:"ciphertext"`
}

// sealedOf is what a record belongs to.
type sealedOf string

// sealedIn lists how encrypted records are found and written again: $1 is the recipient, $2 how many at most; then $1
// the recipient, $2 the text, $3 the id, $4 the revision.
var sealedIn = []struct {
	of         sealedOf
	find, anew string
}{
	{"secret", `SELECT 'secret' AS of, secret_id AS id, revision, ciphertext FROM secret_revisions WHERE sealed_to <> $1
		ORDER BY secret_id, revision`,
		`UPDATE secret_revisions SET sealed_to = $1, ciphertext = $2 WHERE secret_id = $3 AND revision = $4`},
	{"hook", `SELECT 'hook' AS of, id, 0 AS revision, hook_key AS ciphertext FROM projects WHERE hook_key_sealed_to <> $1
		ORDER BY id`,
		`UPDATE projects SET hook_key_sealed_to = $1, hook_key = $2 WHERE id = $3 AND $4 = 0`},
	{"identity", `SELECT 'identity' AS of, id, 0 AS revision, ciphertext FROM identity_revisions WHERE sealed_to <> $1
		ORDER BY id`,
		`UPDATE identity_revisions SET sealed_to = $1, ciphertext = $2 WHERE id = $3 AND $4 = 0`},
	{"service", `SELECT 'service' AS of, id, 0 AS revision, ciphertext FROM service_keys WHERE sealed_to <> $1
		ORDER BY id`,
		`UPDATE service_keys SET sealed_to = $1, ciphertext = $2 WHERE id = $3 AND $4 = 0`},
	{"outlet", `SELECT 'outlet' AS of, id, 0 AS revision, ciphertext FROM outlets WHERE sealed_to <> $1
		ORDER BY id`,
		`UPDATE outlets SET sealed_to = $1, ciphertext = $2 WHERE id = $3 AND $4 = 0`},
	{"webhook", `SELECT 'webhook' AS of, id, 0 AS revision, ciphertext FROM webhooks WHERE sealed_to <> $1
		ORDER BY id`,
		`UPDATE webhooks SET sealed_to = $1, ciphertext = $2 WHERE id = $3 AND $4 = 0`},
}

// SealedToOthers locks up to limit records that are encrypted to anybody but a recipient; those that another
// transaction has are passed over.
func (q Q) SealedToOthers(ctx context.Context, recipient string, limit int) (list []Sealed, err error) {
	for _, in := range sealedIn {
		var some []Sealed
		if err := q.list(ctx, &some, in.find+` LIMIT $2 FOR NO KEY UPDATE SKIP LOCKED`, recipient,
			limit-len(list)); err != nil {
			return nil, err
		}
		if list = append(list, some...); len(list) >= limit {
			break
		}
	}
	return list, nil
}

// SealAnew writes an encrypted record again, for a recipient.
func (q Q) SealAnew(ctx context.Context, s Sealed, recipient string) error {
	for _, in := range sealedIn {
		if in.of == s.Of {
			return q.do(ctx, ErrNotFound, in.anew, recipient, s.Ciphertext, s.ID, s.Revision)
		}
	}
	return ErrNotFound
}
