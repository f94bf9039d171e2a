package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

// Outlet is a place where a project's releases can go.
type Outlet struct {
	ID        record.OutletID      `db:"id"`
	ProjectID record.ProjectID     `db:"project_id"`
	Name      string               `db:"name"`
	Kind      string               `db:"kind"`
	Settings  JSON[OutletSettings] `db:"settings"`
	SetBy     string               `db:"set_by"`
	SetAt     time.Time            `db:"set_at"`
	// What it is spoken to with; nil when it needs nothing.
	Ciphertext []byte     `db:"ciphertext"`
	SealedTo   *string    `db:"sealed_to"`
	Expires    *time.Time `db:"expires_at"` // what it is spoken to with
}

// The kinds of outlets: a folder of the server's machine, an S3-compatible bucket, what speaks the outlet
// protocol, and groups of testers.
const (
	FolderOutlet  = "folder"
	BucketOutlet  = "bucket"
	StoreOutlet   = "store"
	TestersOutlet = "testers"
)

// OutletSettings are what an adapter needs to know.
type OutletSettings struct {
	Folder string   `json:"folder,omitempty"`
	URL    string   `json:"url,omitempty"`
	Client string   `json:"client,omitempty"` // by which name it is spoken to
	Inside bool     `json:"inside,omitempty"` // it may be on the server's machine, or in its network
	Takes  []string `json:"takes,omitempty"`  // kinds of packages; none: all of them
	Region string   `json:"region,omitempty"` // of a bucket
	Days   int      `json:"days,omitempty"`   // how long testers may have a release
	// Which runs may bring something there by themselves.
	Scope access.Scope `json:"scope"`
}

var outletColumns = columnsOf[Outlet]("o")

// SetOutlet writes an outlet, or changes it.
func (q Q) SetOutlet(ctx context.Context, o Outlet) error {
	return q.do(ctx, nil, `INSERT INTO outlets (project_id, name, kind, settings, set_by, ciphertext, sealed_to,
		expires_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
		ON CONFLICT (project_id, name) DO UPDATE SET kind = excluded.kind, settings = excluded.settings,
		set_by = excluded.set_by, set_at = now(), ciphertext = excluded.ciphertext, sealed_to = excluded.sealed_to,
		expires_at = excluded.expires_at`, o.ProjectID, o.Name, o.Kind, asJSON(o.Settings.V), o.SetBy, o.Ciphertext,
		o.SealedTo, o.Expires)
}

// Outlets lists a project's outlets by name.
func (q Q) Outlets(ctx context.Context, project record.ProjectID) (list []Outlet, err error) {
	err = q.list(ctx, &list, `SELECT `+outletColumns+` FROM outlets o WHERE o.project_id = $1 ORDER BY o.name`, project)
	return list, err
}

// OutletByName finds one of a project.
func (q Q) OutletByName(ctx context.Context, project record.ProjectID, name string) (o Outlet, err error) {
	err = q.get(ctx, &o, `SELECT `+outletColumns+` FROM outlets o WHERE o.project_id = $1 AND o.name = $2`, project, name)
	return o, err
}

// OutletByID finds one.
func (q Q) OutletByID(ctx context.Context, id record.OutletID) (o Outlet, err error) {
	err = q.get(ctx, &o, `SELECT `+outletColumns+` FROM outlets o WHERE o.id = $1`, id)
	return o, err
}

// DropOutlet removes one to which nothing ever went; ErrNotFound otherwise.
func (q Q) DropOutlet(ctx context.Context, id record.OutletID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM outlets o WHERE id = $1
		AND NOT EXISTS (SELECT 1 FROM publications WHERE outlet_id = o.id)`, id)
}

// Publication is a release on its way to an outlet.
type Publication struct {
	ID        record.PublicationID   `db:"id"`
	ReleaseID record.ReleaseID       `db:"release_id"`
	OutletID  record.OutletID        `db:"outlet_id"`
	ProjectID record.ProjectID       `db:"project_id"`
	Project   string                 `db:"project"`
	App       string                 `db:"app"`
	Name      string                 `db:"name"`
	RunID     record.RunID           `db:"run_id"`
	Run       record.RunNumber       `db:"run"`
	Outlet    string                 `db:"outlet"`
	Channel   string                 `db:"channel"`
	Share     int                    `db:"share"`
	State     publication.State      `db:"state"`
	OutTo     int                    `db:"out_to"`
	Reasons   JSON[[]string]         `db:"reasons"`
	Asks      JSON[[]string]         `db:"asks"`
	Key       string                 `db:"key"`
	Hold      bool                   `db:"hold"`
	Note      string                 `db:"note"`
	Stages    JSON[[]quantity.Stage] `db:"stages"`
	SharedAt  *time.Time             `db:"shared_at"`
	Trouble   string                 `db:"trouble"`
	Wants     string                 `db:"wants"`
	Ref       string                 `db:"ref"`
	Sent      int64                  `db:"sent"`
	Total     int64                  `db:"total"`
	By        string                 `db:"by"`
	Attempt   *record.AttemptID      `db:"attempt_id"`
	Step      int                    `db:"step"`
	Begun     time.Time              `db:"begun_at"`
}

const publicationColumns = `u.id, u.release_id, u.outlet_id, l.project_id, p.name AS project, l.app, l.name, l.run_id,
	r.number AS run, o.name AS outlet, u.channel, u.share, u.state, u.out_to, u.reasons, u.asks, u.key, u.hold, u.note,
	u.stages, u.shared_at, u.trouble, u.wants, u.ref, u.sent, u.total, u.by, u.attempt_id, u.step, u.begun_at
	FROM publications u JOIN releases l ON l.id = u.release_id JOIN projects p ON p.id = l.project_id
	JOIN runs r ON r.id = l.run_id JOIN outlets o ON o.id = u.outlet_id`

// AddPublication writes one and sets its id; ErrExists when another is on its way into the channel, or its step has
// begun one already.
func (q Q) AddPublication(ctx context.Context, p *Publication) error {
	return q.get(ctx, &p.ID, `INSERT INTO publications (release_id, outlet_id, channel, share, state, total, by,
		attempt_id, step, hold, note, stages) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) RETURNING id`,
		p.ReleaseID, p.OutletID, p.Channel, p.Share, string(p.State), p.Total, p.By, p.Attempt, p.Step, p.Hold,
		p.Note, asJSON(p.Stages.V))
}

// PublicationByID finds one.
func (q Q) PublicationByID(ctx context.Context, id record.PublicationID) (p Publication, err error) {
	err = q.get(ctx, &p, `SELECT `+publicationColumns+` WHERE u.id = $1`, id)
	return p, err
}

// PublicationOfStep finds the one that a step of an attempt has begun.
func (q Q) PublicationOfStep(ctx context.Context, attempt record.AttemptID, step int) (p Publication, err error) {
	err = q.get(ctx, &p, `SELECT `+publicationColumns+` WHERE u.attempt_id = $1 AND u.step = $2`, attempt, step)
	return p, err
}

// PublicationByRef finds what an outlet calls so.
func (q Q) PublicationByRef(ctx context.Context, outlet record.OutletID, ref string) (p Publication, err error) {
	err = q.get(ctx, &p, `SELECT `+publicationColumns+` WHERE u.outlet_id = $1 AND u.ref = $2`, outlet, ref)
	return p, err
}

// GivenInChannel lists the others of a publication's channel that people get, as far as is known.
func (q Q) GivenInChannel(ctx context.Context, p Publication) (ids []record.PublicationID, err error) {
	err = q.list(ctx, &ids, `SELECT id FROM publications WHERE outlet_id = $1 AND channel = $2 AND id <> $3
		AND state IN ('shared', 'out')`, p.OutletID, p.Channel, p.ID)
	return ids, err
}

// PublicationFilter narrows a list of publications. Zero fields do not.
type PublicationFilter struct {
	Release record.ReleaseID
	Outlet  string
	State   string
	Before  record.PublicationID
	Limit   int
}

// Publications lists those of a project, newest first.
func (q Q) Publications(ctx context.Context, project record.ProjectID, f PublicationFilter) (list []Publication,
	err error) {
	err = q.list(ctx, &list, `SELECT `+publicationColumns+` WHERE l.project_id = $1 AND ($2 = 0 OR u.release_id = $2)
		AND ($3 = '' OR o.name = $3) AND ($4 = '' OR u.state = $4) AND ($5 = 0 OR u.id < $5) ORDER BY u.id DESC LIMIT $6`,
		project, f.Release, f.Outlet, f.State, f.Before, f.Limit)
	return list, err
}

// HoldPublication takes hold of one for a while, so that no other server works on it; ErrNotFound when another does.
func (q Q) HoldPublication(ctx context.Context, id record.PublicationID, lease time.Duration) error {
	return q.do(ctx, ErrNotFound, `UPDATE publications SET held_until = now() + $2 WHERE id = $1
		AND (held_until IS NULL OR held_until < now())`, id, lease)
}

// GoOnHolding holds one for a while longer.
func (q Q) GoOnHolding(ctx context.Context, id record.PublicationID, lease time.Duration) error {
	return q.do(ctx, nil, `UPDATE publications SET held_until = now() + $2 WHERE id = $1`, id, lease)
}

// NoteSent notes how many bytes were sent; wants is what a person wants of it meanwhile.
func (q Q) NoteSent(ctx context.Context, id record.PublicationID, sent int64) (wants string, err error) {
	err = q.get(ctx, &wants, `UPDATE publications SET sent = $2 WHERE id = $1 RETURNING wants`, id, sent)
	return wants, err
}

// WithdrawPublications wants those taken back that are on the way of a release.
func (q Q) WithdrawPublications(ctx context.Context, release record.ReleaseID) (ids []record.PublicationID, err error) {
	err = q.list(ctx, &ids, `UPDATE publications SET wants = 'withdraw' WHERE release_id = $1
		AND state IN ('prepared', 'sending', 'processing', 'in-review', 'accepted') RETURNING id`, release)
	return ids, err
}

// WithdrawBegun wants that taken back which an attempt has begun and that is not where it is to go.
func (q Q) WithdrawBegun(ctx context.Context, attempt record.AttemptID) (ids []record.PublicationID, err error) {
	err = q.list(ctx, &ids, `UPDATE publications SET wants = 'withdraw' WHERE attempt_id = $1
		AND state IN ('prepared', 'sending') RETURNING id`, attempt)
	return ids, err
}

// AdoptPublication gives one that is on its way to the step of another attempt, which would begin the same.
func (q Q) AdoptPublication(ctx context.Context, p Publication) (id record.PublicationID, err error) {
	err = q.get(ctx, &id, `UPDATE publications SET attempt_id = $1, step = $2 WHERE release_id = $3 AND outlet_id = $4
		AND channel = $5 AND state IN ('prepared', 'sending', 'processing', 'in-review') RETURNING id`, p.Attempt, p.Step,
		p.ReleaseID, p.OutletID, p.Channel)
	return id, err
}

// LeftPublications lists those whose server has ended while it had them in hand, and lets go of them.
func (q Q) LeftPublications(ctx context.Context) (ids []record.PublicationID, err error) {
	err = q.list(ctx, &ids, `UPDATE publications SET held_until = NULL WHERE held_until < now() RETURNING id`)
	return ids, err
}

// LetPublicationGo lets others work on one, and notes why it cannot go on just now.
func (q Q) LetPublicationGo(ctx context.Context, id record.PublicationID, trouble string) error {
	return q.do(ctx, nil, `UPDATE publications SET held_until = NULL, trouble = $2 WHERE id = $1`, id, trouble)
}

// LockPublication finds one and locks it.
func (q Q) LockPublication(ctx context.Context, id record.PublicationID) (p Publication, err error) {
	err = q.get(ctx, &p, `SELECT `+publicationColumns+` WHERE u.id = $1 FOR UPDATE OF u`, id)
	return p, err
}

// SetPublication writes where one stands.
func (q Q) SetPublication(ctx context.Context, p Publication) error {
	return q.do(ctx, ErrNotFound, `UPDATE publications SET state = $2, out_to = $3, reasons = $4, wants = $5, ref = $6,
		sent = $7, share = $8, asks = $9, stages = $10,
		shared_at = $11 WHERE id = $1`, p.ID, string(p.State), p.OutTo, asJSON(p.Reasons.V), p.Wants,
		p.Ref, p.Sent, p.Share, asJSON(p.Asks.V),
		asJSON(p.Stages.V), p.SharedAt)
}

// PublicationStep is something that became of a publication.
type PublicationStep struct {
	Publication record.PublicationID `db:"publication_id"`
	At          time.Time            `db:"at"`
	State       publication.State    `db:"state"`
	OutTo       int                  `db:"out_to"`
	By          string               `db:"by"`
	Note        string               `db:"note"`
	Outlet      string               `db:"outlet"` // when it is read
	Channel     string               `db:"channel"`
}

// AddPublicationStep writes that something became of a publication.
func (q Q) AddPublicationStep(ctx context.Context, s PublicationStep) error {
	return q.do(ctx, nil, `INSERT INTO publication_steps (publication_id, state, out_to, by, note)
		VALUES ($1, $2, $3, $4, $5)`, s.Publication, string(s.State), s.OutTo, s.By, s.Note)
}

// PublicationSteps lists what became of the publications of a release.
func (q Q) PublicationSteps(ctx context.Context, release record.ReleaseID) (list []PublicationStep, err error) {
	err = q.list(ctx, &list, `SELECT s.publication_id, s.at, s.state, s.out_to, s.by, s.note, o.name AS outlet,
		u.channel FROM publication_steps s JOIN publications u ON u.id = s.publication_id
		JOIN outlets o ON o.id = u.outlet_id WHERE u.release_id = $1 ORDER BY s.id`, release)
	return list, err
}
