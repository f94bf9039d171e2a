package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Trial is a release that a group of testers may have.
type Trial struct {
	ID        record.TrialID   `db:"id"`
	OutletID  record.OutletID  `db:"outlet_id"`
	ReleaseID record.ReleaseID `db:"release_id"`
	Group     string           `db:"name"`
	Key       string           `db:"key"`
	Note      string           `db:"note"`
	Begun     time.Time        `db:"begun_at"`
	Ends      time.Time        `db:"ends_at"`
	Halted    bool             `db:"halted"`
}

// Open tells whether testers may have it at a time.
func (t Trial) Open(now time.Time) bool { return !t.Halted && now.Before(t.Ends) }

var trialColumns = columnsOf[Trial]("t")

// AddTrial writes one and sets its id; is is false when there was one by its key.
func (q Q) AddTrial(ctx context.Context, t *Trial) (is bool, err error) {
	err = q.get(ctx, &t.ID, `INSERT INTO trials (outlet_id, release_id, name, key, note, ends_at)
		VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (key) DO NOTHING RETURNING id`, t.OutletID, t.ReleaseID, t.Group, t.Key,
		t.Note, t.Ends)
	if errors.Is(err, ErrNotFound) {
		*t, err = q.TrialByKey(ctx, t.Key)
		return false, err
	}
	return err == nil, err
}

// TrialByKey finds that of a publication.
func (q Q) TrialByKey(ctx context.Context, key string) (t Trial, err error) {
	err = q.get(ctx, &t, `SELECT `+trialColumns+` FROM trials t WHERE t.key = $1`, key)
	return t, err
}

// TrialByID finds one.
func (q Q) TrialByID(ctx context.Context, id record.TrialID) (t Trial, err error) {
	err = q.get(ctx, &t, `SELECT `+trialColumns+` FROM trials t WHERE t.id = $1`, id)
	return t, err
}

// TrialsIn lists those of a group, newest first.
func (q Q) TrialsIn(ctx context.Context, outlet record.OutletID, group string, limit int) (list []Trial, err error) {
	err = q.list(ctx, &list, `SELECT `+trialColumns+` FROM trials t WHERE t.outlet_id = $1 AND t.name = $2
		ORDER BY t.id DESC LIMIT $3`, outlet, group, limit)
	return list, err
}

// TrialsFor lists those of all groups that a tester is in, newest first. A release is there once.
func (q Q) TrialsFor(ctx context.Context, tester record.TesterID, limit int) (list []Trial, err error) {
	err = q.list(ctx, &list, `SELECT `+trialColumns+` FROM trials t WHERE t.id IN (SELECT max(x.id) FROM trials x
			JOIN outlets o ON o.id = x.outlet_id JOIN tester_groups g ON g.name = x.name
			JOIN testers s ON s.id = g.tester_id AND s.project_id = o.project_id
			JOIN releases l ON l.id = x.release_id AND l.withdrawn_at IS NULL
			WHERE s.id = $1 AND NOT x.halted AND x.ends_at > now() GROUP BY x.release_id)
		ORDER BY t.id DESC LIMIT $2`, tester, limit)
	return list, err
}

// HaltTrial keeps testers from one, or lets them have it again.
func (q Q) HaltTrial(ctx context.Context, id record.TrialID, halted bool) error {
	return q.do(ctx, ErrNotFound, `UPDATE trials SET halted = $2 WHERE id = $1`, id, halted)
}

// DropTrial takes one away.
func (q Q) DropTrial(ctx context.Context, id record.TrialID) error {
	return q.do(ctx, nil, `DELETE FROM trials WHERE id = $1`, id)
}

// CountDownload counts that a tester has fetched a file.
func (q Q) CountDownload(ctx context.Context, trial record.TrialID, tester record.TesterID, file string) error {
	return q.do(ctx, nil, `INSERT INTO downloads (trial_id, tester_id, file) VALUES ($1, $2, $3)
		ON CONFLICT (trial_id, tester_id, file) DO UPDATE SET times = downloads.times + 1, last_at = now()`, trial, tester,
		file)
}

// Tried is how a release fares with a group.
type Tried struct {
	Trial
	Testers    int `db:"testers"`    // who are in the group now
	Downloaded int `db:"downloaded"` // who have fetched it
}

// TrialsOf lists how a release fares with the groups that may have it.
func (q Q) TrialsOf(ctx context.Context, release record.ReleaseID) (list []Tried, err error) {
	err = q.list(ctx, &list, `SELECT `+trialColumns+`, (SELECT count(*) FROM tester_groups g JOIN testers s
			ON s.id = g.tester_id WHERE g.name = t.name AND s.project_id = o.project_id) AS testers,
		(SELECT count(DISTINCT d.tester_id) FROM downloads d WHERE d.trial_id = t.id) AS downloaded
		FROM trials t JOIN outlets o ON o.id = t.outlet_id WHERE t.release_id = $1 ORDER BY t.id`, release)
	return list, err
}

// Word is what a tester says of a release.
type Word struct {
	ID        record.WordID    `db:"id"`
	ReleaseID record.ReleaseID `db:"release_id"`
	Tester    *record.TesterID `db:"tester_id"` // nil when they are no more
	At        time.Time        `db:"at"`
	Text      string           `db:"text"`
	Pictured  bool             `db:"pictured"`
}

// AddWord writes one; picture is a JPEG, or nil.
func (q Q) AddWord(ctx context.Context, release record.ReleaseID, tester record.TesterID, text string,
	picture []byte) error {
	return q.do(ctx, nil, `INSERT INTO words (release_id, tester_id, text, picture) VALUES ($1, $2, $3, $4)`, release,
		tester, text, picture)
}

// WordsSince is how often a tester has said something since a time.
func (q Q) WordsSince(ctx context.Context, tester record.TesterID, since time.Time) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM words WHERE tester_id = $1 AND at > $2`, tester, since)
	return n, err
}

// Words lists what was said of a release, newest first.
func (q Q) Words(ctx context.Context, release record.ReleaseID, limit int) (list []Word, err error) {
	err = q.list(ctx, &list, `SELECT id, release_id, tester_id, at, text, picture IS NOT NULL AS pictured FROM words
		WHERE release_id = $1 ORDER BY id DESC LIMIT $2`, release, limit)
	return list, err
}

// Picture is that of a word in a project.
func (q Q) Picture(ctx context.Context, project record.ProjectID, id record.WordID) (picture []byte, err error) {
	err = q.get(ctx, &picture, `SELECT w.picture FROM words w JOIN releases l ON l.id = w.release_id
		WHERE l.project_id = $1 AND w.id = $2 AND w.picture IS NOT NULL`, project, id)
	return picture, err
}

// LastTried is the last release that testers of a project could have; 0 when there is none.
func (q Q) LastTried(ctx context.Context, project record.ProjectID) (id record.ReleaseID, err error) {
	err = q.get(ctx, &id, `SELECT coalesce((SELECT t.release_id FROM trials t JOIN releases l ON l.id = t.release_id
		WHERE l.project_id = $1 ORDER BY t.id DESC LIMIT 1), 0)`, project)
	return id, err
}

// ArtifactBlob is where the bytes of a kept file are.
func (q Q) ArtifactBlob(ctx context.Context, id record.ArtifactID) (name string, err error) {
	err = q.get(ctx, &name, `SELECT blob FROM artifacts WHERE id = $1`, id)
	return name, err
}
