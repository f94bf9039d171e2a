package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
)

// Identity is a signing key's record, with its newest revision.
type Identity struct {
	ID       record.IdentityID `db:"id"`
	Name     string            `db:"name"`
	Platform string            `db:"platform"`
	Note     string            `db:"note"`
	Apps     Texts             `db:"apps"`
	Pipes    Texts             `db:"pipelines"`
	Branches Texts             `db:"branches"`
	Tags     Texts             `db:"tags"`
	KeyRevision
}

// Scope is which runs may sign with it.
func (i Identity) Scope() access.Scope {
	return access.Scope{Pipelines: i.Pipes, Branches: i.Branches, Tags: i.Tags}
}

// KeyRevision is one key that an identity has had.
type KeyRevision struct {
	RevisionID  int64          `db:"revision_id"`
	Number      int            `db:"revision"`
	Chain       []byte         `db:"chain"`
	Fingerprint string         `db:"fingerprint"`
	Profiles    JSON[[][]byte] `db:"profiles"`
	Ciphertext  []byte         `db:"ciphertext"`
	SealedTo    string         `db:"sealed_to"`
	Made        bool           `db:"made"`
	Token       string         `db:"token"` // the label of the one the key is in
	Set         time.Time      `db:"set_at"`
	By          string         `db:"set_by"`
	Exported    *time.Time     `db:"exported_at"`
	ExportedBy  string         `db:"exported_by"`
	// The proof that its key followed the one before; empty where it was not rotated.
	Lineage []byte `db:"lineage"`
}

const identityColumns = `i.id, i.name, i.platform, i.note, i.apps, i.pipelines, i.branches, i.tags, r.id AS revision_id,
	r.revision, r.chain, r.fingerprint, r.profiles, r.ciphertext, r.sealed_to, r.made, r.token, r.set_at, r.set_by,
	r.exported_at, r.exported_by, r.lineage FROM identities i JOIN identity_revisions r ON r.identity_id = i.id`

// newest is the revision that an identity signs with.
const newest = ` AND r.revision = i.revision`

// Identities lists those of a project, by name.
func (q Q) Identities(ctx context.Context, project record.ProjectID, page Page) (list []Identity, err error) {
	err = q.list(ctx, &list, `SELECT `+identityColumns+` WHERE i.project_id = $4`+newest+paged("i.name"),
		append(page.args(), project)...)
	return list, err
}

// IdentityByName finds one of a project.
func (q Q) IdentityByName(ctx context.Context, project record.ProjectID, name string) (i Identity, err error) {
	err = q.get(ctx, &i, `SELECT `+identityColumns+` WHERE i.project_id = $1 AND i.name = $2`+newest, project,
		name)
	return i, err
}

// IdentityWithKey finds one of a project with the revision of a certificate instead of the newest.
func (q Q) IdentityWithKey(ctx context.Context, project record.ProjectID, name, fingerprint string) (i Identity,
	err error) {
	err = q.get(ctx, &i, `SELECT `+identityColumns+` WHERE i.project_id = $1 AND i.name = $2 AND r.fingerprint = $3
		ORDER BY r.revision DESC LIMIT 1`, project, name, fingerprint)
	return i, err
}

// LockIdentity finds one of a project, which nobody else changes until the transaction's end.
func (q Q) LockIdentity(ctx context.Context, project record.ProjectID, name string) (i Identity, err error) {
	var id record.IdentityID
	if err = q.get(ctx, &id, `SELECT id FROM identities WHERE project_id = $1 AND name = $2 FOR UPDATE`, project,
		name); err != nil {
		return i, err
	}
	return q.IdentityByName(ctx, project, name)
}

// AddIdentity makes one without a key, which AddKeyRevision must give it in the same transaction; ErrExists when the
// project has one of that name.
func (q Q) AddIdentity(ctx context.Context, project record.ProjectID, name, platform string) (id record.IdentityID,
	err error) {
	err = q.get(ctx, &id, `INSERT INTO identities (project_id, name, platform, revision) VALUES ($1, $2, $3, 0)
		RETURNING id`, project, name, platform)
	return id, err
}

// AddKeyRevision writes an identity's next key; its number is returned. ErrMaster when that it is encrypted to is no
// more.
func (q Q) AddKeyRevision(ctx context.Context, id record.IdentityID, r KeyRevision) (number int, err error) {
	if err = q.get(ctx, &number, `UPDATE identities SET revision = revision + 1 WHERE id = $1 RETURNING revision`,
		id); err != nil {
		return 0, err
	}
	return number, q.do(ctx, nil, `INSERT INTO identity_revisions (identity_id, revision, chain, fingerprint, profiles,
		ciphertext, sealed_to, made, set_by, lineage, token) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, id,
		number, r.Chain, r.Fingerprint, asJSON(r.Profiles.V), r.Ciphertext, r.SealedTo, r.Made, r.By, r.Lineage, r.Token)
}

// SetProfiles writes the provisioning profiles of a revision.
func (q Q) SetProfiles(ctx context.Context, revision int64, profiles [][]byte) error {
	return q.do(ctx, ErrNotFound, `UPDATE identity_revisions SET profiles = $2 WHERE id = $1`, revision,
		asJSON(profiles))
}

// ChangeIdentity writes what is said about an identity.
func (q Q) ChangeIdentity(ctx context.Context, id record.IdentityID, note string, apps []string,
	s access.Scope) error {
	return q.do(ctx, ErrNotFound, `UPDATE identities SET note = $2, apps = $3, pipelines = $4, branches = $5, tags = $6
		WHERE id = $1`, id, note, texts(apps), texts(s.Pipelines), texts(s.Branches), texts(s.Tags))
}

// NoteExport remembers who took a copy of a key away.
func (q Q) NoteExport(ctx context.Context, revision int64, by string) error {
	return q.do(ctx, ErrNotFound, `UPDATE identity_revisions SET exported_at = now(), exported_by = $2 WHERE id = $1`,
		revision, by)
}

// DropIdentity removes an identity with all its keys.
func (q Q) DropIdentity(ctx context.Context, id record.IdentityID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM identities WHERE id = $1`, id)
}

// AppCertificate is the one that an app was signed by last.
type AppCertificate struct {
	Platform    string           `db:"platform"`
	App         string           `db:"app"`
	Fingerprint string           `db:"fingerprint"`
	Run         record.RunNumber `db:"run"`
	Since       time.Time        `db:"since"`
	Next        string           `db:"next"`
}

// AppCertificates lists those of a project.
func (q Q) AppCertificates(ctx context.Context, project record.ProjectID) (list []AppCertificate, err error) {
	err = q.list(ctx, &list, `SELECT platform, app, fingerprint, run, since, next FROM app_certificates
		WHERE project_id = $1 ORDER BY app, platform`, project)
	return list, err
}

// SignApp notes by which certificate an app is signed. It gives the one that is expected instead when another was
// before, and no keeper has said that this one may take its place; else the same.
func (q Q) SignApp(ctx context.Context, project record.ProjectID, c AppCertificate) (expected string, err error) {
	err = q.get(ctx, &expected, `INSERT INTO app_certificates (project_id, platform, app, fingerprint, run)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (project_id, platform, app) DO UPDATE SET
			run = CASE WHEN app_certificates.next = $4 THEN $5 ELSE app_certificates.run END,
			since = CASE WHEN app_certificates.next = $4 THEN now() ELSE app_certificates.since END,
			fingerprint = CASE WHEN app_certificates.next = $4 THEN $4 ELSE app_certificates.fingerprint END,
			next = CASE WHEN app_certificates.next = $4 THEN '' ELSE app_certificates.next END
		RETURNING fingerprint`, project, c.Platform, c.App, c.Fingerprint, c.Run)
	return expected, err
}

// AllowCertificate says that an app may be signed by another certificate from now on.
func (q Q) AllowCertificate(ctx context.Context, project record.ProjectID, platform, app, fingerprint string) error {
	return q.do(ctx, ErrNotFound, `UPDATE app_certificates SET next = $4 WHERE project_id = $1 AND platform = $2
		AND app = $3`, project, platform, app, fingerprint)
}

// Signature is one that was given. The database itself refuses to change or remove one.
type Signature struct {
	ID          int64            `db:"id"`
	At          time.Time        `db:"at"`
	Project     string           `db:"project"`
	Identity    string           `db:"identity"`
	Revision    int              `db:"revision"`
	Fingerprint string           `db:"fingerprint"`
	Platform    string           `db:"platform"`
	App         string           `db:"app"`
	File        string           `db:"file"`
	Digest      []byte           `db:"digest"`
	Run         record.RunNumber `db:"run"`
	Pipeline    string           `db:"pipeline"`
	Branch      string           `db:"branch"`
	Commit      string           `db:"commit"`
	Step        int              `db:"step"`
	Runner      string           `db:"runner"`
}

// AddSignature writes one.
func (q Q) AddSignature(ctx context.Context, s Signature) error {
	return q.do(ctx, nil, `INSERT INTO signatures (project, identity, revision, fingerprint, platform, app, file, digest,
		run, pipeline, branch, commit, step, runner)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`, s.Project, s.Identity, s.Revision,
		s.Fingerprint, s.Platform, s.App, s.File, s.Digest, s.Run, s.Pipeline, s.Branch, s.Commit, s.Step, s.Runner)
}

// SignatureFilter says which are wanted; empty fields match all.
type SignatureFilter struct {
	Project, Identity, App string
	Run                    record.RunNumber
	Before                 int64 // only ids below
	Limit                  int
}

// Signatures lists those that were given, newest first.
func (q Q) Signatures(ctx context.Context, f SignatureFilter) (list []Signature, err error) {
	err = q.list(ctx, &list, `SELECT `+columnsOf[Signature]("signatures")+` FROM signatures WHERE project = $1
		AND ($2 = '' OR identity = $2) AND ($3 = '' OR app = $3) AND ($4 = 0 OR run = $4) AND ($5 = 0 OR id < $5)
		ORDER BY id DESC LIMIT $6`, f.Project, f.Identity, f.App, f.Run, f.Before, f.Limit)
	return list, err
}
