package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Tester is somebody who tries releases.
type Tester struct {
	ID        record.TesterID  `db:"id"`
	ProjectID record.ProjectID `db:"project_id"`
	Address   string           `db:"address"`
	Link      string           `db:"link"`
	AddedBy   string           `db:"added_by"`
	Added     time.Time        `db:"added_at"`
	Quiet     bool             `db:"quiet"`
	// When they are read.
	Project   string     `db:"project"`
	Groups    Texts      `db:"groups"`
	Downloads int        `db:"downloads"`
	Last      *time.Time `db:"last_at"`
	Trouble   string     `db:"trouble"` // why their last mail was refused
}

const testerColumns = `t.id, t.project_id, t.address, t.link, t.added_by, t.added_at, t.quiet, p.name AS project,
	ARRAY(SELECT g.name FROM tester_groups g WHERE g.tester_id = t.id ORDER BY g.name) AS groups,
	(SELECT coalesce(sum(d.times), 0)::int FROM downloads d WHERE d.tester_id = t.id) AS downloads,
	coalesce((SELECT CASE WHEN l.state = 'refused' THEN l.trouble END FROM letters l WHERE l.recipient = t.address
		ORDER BY l.id DESC LIMIT 1), '') AS trouble,
	(SELECT max(d.last_at) FROM downloads d WHERE d.tester_id = t.id) AS last_at
	FROM testers t JOIN projects p ON p.id = t.project_id`

// AddTesters writes those who are new, each with a link of their own, and puts all into a group. added is how many are
// new in the project, joined how many in the group.
func (q Q) AddTesters(ctx context.Context, project record.ProjectID, group, by string, addresses, links []string) (
	added, joined int, err error) {
	err = q.get(ctx, &added, `WITH made AS (INSERT INTO testers (project_id, address, link, added_by)
		SELECT $1, a, l, $4 FROM unnest($2::text[], $3::text[]) AS x (a, l) ON CONFLICT (project_id, address) DO NOTHING
		RETURNING 1) SELECT count(*) FROM made`, project, addresses, links, by)
	if err == nil {
		err = q.get(ctx, &joined, `WITH made AS (INSERT INTO tester_groups (tester_id, name)
			SELECT id, $2 FROM testers WHERE project_id = $1 AND address = ANY ($3) ON CONFLICT DO NOTHING RETURNING 1)
			SELECT count(*) FROM made`, project, group, addresses)
	}
	return added, joined, err
}

// CountTesters is how many a project has.
func (q Q) CountTesters(ctx context.Context, project record.ProjectID) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM testers WHERE project_id = $1`, project)
	return n, err
}

// TesterFilter narrows a list of testers. Zero fields do not.
type TesterFilter struct {
	Group, Contains string
	After           record.TesterID
	Limit           int
}

// Testers lists those of a project in the order in which they were added.
func (q Q) Testers(ctx context.Context, project record.ProjectID, f TesterFilter) (list []Tester, err error) {
	err = q.list(ctx, &list, `SELECT `+testerColumns+` WHERE t.project_id = $1 AND strpos(t.address, $2) > 0
		AND ($3 = '' OR EXISTS (SELECT 1 FROM tester_groups g WHERE g.tester_id = t.id AND g.name = $3)) AND t.id > $4
		ORDER BY t.id LIMIT $5`, project, f.Contains, f.Group, f.After, f.Limit)
	return list, err
}

// TesterByLink finds whose page a link leads to.
func (q Q) TesterByLink(ctx context.Context, link string) (t Tester, err error) {
	err = q.get(ctx, &t, `SELECT `+testerColumns+` WHERE t.link = $1`, link)
	return t, err
}

// TesterByID finds one of a project.
func (q Q) TesterByID(ctx context.Context, project record.ProjectID, id record.TesterID) (t Tester, err error) {
	err = q.get(ctx, &t, `SELECT `+testerColumns+` WHERE t.project_id = $1 AND t.id = $2`, project, id)
	return t, err
}

// GroupTester is one of a group who wants mail.
type GroupTester struct {
	ID      record.TesterID `db:"id"`
	Address string          `db:"address"`
	Link    string          `db:"link"`
}

// GroupTesters lists those of a group who want mail.
func (q Q) GroupTesters(ctx context.Context, project record.ProjectID, group string) (list []GroupTester, err error) {
	err = q.list(ctx, &list, `SELECT t.id, t.address, t.link FROM testers t JOIN tester_groups g ON g.tester_id = t.id
		WHERE t.project_id = $1 AND g.name = $2 AND NOT t.quiet ORDER BY t.id`, project, group)
	return list, err
}

// GroupSize is how many are in a group.
func (q Q) GroupSize(ctx context.Context, project record.ProjectID, group string) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM testers t JOIN tester_groups g ON g.tester_id = t.id
		WHERE t.project_id = $1 AND g.name = $2`, project, group)
	return n, err
}

// SetTesterLink gives a tester another link; the one before leads nowhere any more.
func (q Q) SetTesterLink(ctx context.Context, id record.TesterID, link string) error {
	return q.do(ctx, ErrNotFound, `UPDATE testers SET link = $2 WHERE id = $1`, id, link)
}

// SetQuiet writes whether a tester wants no mail.
func (q Q) SetQuiet(ctx context.Context, id record.TesterID, quiet bool) error {
	return q.do(ctx, ErrNotFound, `UPDATE testers SET quiet = $2 WHERE id = $1`, id, quiet)
}

// LeaveGroup takes a tester out of a group.
func (q Q) LeaveGroup(ctx context.Context, id record.TesterID, group string) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM tester_groups WHERE tester_id = $1 AND name = $2`, id, group)
}

// DropTester removes a tester; what they said stays.
func (q Q) DropTester(ctx context.Context, id record.TesterID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM testers WHERE id = $1`, id)
}

// TestDevice is one that a provisioning profile has to list.
type TestDevice struct {
	Tester  record.TesterID `db:"tester_id"`
	Address string          `db:"address"`
	Device  string          `db:"device"`
	Name    string          `db:"name"`
	Added   time.Time       `db:"added_at"`
}

// AddTestDevice writes a device of a tester, or its name anew.
func (q Q) AddTestDevice(ctx context.Context, tester record.TesterID, device, name string) error {
	return q.do(ctx, nil, `INSERT INTO test_devices (tester_id, device, name) VALUES ($1, $2, $3)
		ON CONFLICT (tester_id, device) DO UPDATE SET name = excluded.name`, tester, device, name)
}

// TestDevicesOf lists those of a tester.
func (q Q) TestDevicesOf(ctx context.Context, tester record.TesterID) (list []TestDevice, err error) {
	err = q.list(ctx, &list, `SELECT d.tester_id, t.address, d.device, d.name, d.added_at FROM test_devices d
		JOIN testers t ON t.id = d.tester_id WHERE t.id = $1 ORDER BY d.added_at, d.device`, tester)
	return list, err
}

// TestDevices lists those of a project's testers.
func (q Q) TestDevices(ctx context.Context, project record.ProjectID) (list []TestDevice, err error) {
	err = q.list(ctx, &list, `SELECT d.tester_id, t.address, d.device, d.name, d.added_at FROM test_devices d
		JOIN testers t ON t.id = d.tester_id WHERE t.project_id = $1 ORDER BY d.added_at, d.device`, project)
	return list, err
}
