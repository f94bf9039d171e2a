package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
)

// Person is someone who may sign in.
type Person struct {
	ID            record.PersonID `db:"id"`
	Name          string          `db:"name"`
	PasswordHash  string          `db:"password_hash"` // "" when they sign in elsewhere
	Administrator bool            `db:"administrator"` // by themselves, not by a group
	Disabled      bool            `db:"disabled"`
	Issuer        string          `db:"issuer"`
	Subject       string          `db:"subject"`
	Created       time.Time       `db:"created_at"`
	Seen          *time.Time      `db:"seen_at"`
	Groups        Texts           `db:"groups"`
	ByGroup       bool            `db:"by_group"` // an administrator by a group
	Mail          string          `db:"mail"`     // "" when they get none
}

const personColumns = `p.id, p.name, p.password_hash, p.administrator, p.disabled, p.issuer, p.subject, p.created_at,
	p.seen_at, p.mail,
	ARRAY(SELECT g.name FROM members m JOIN groups g ON g.id = m.group_id WHERE m.person_id = p.id
	ORDER BY g.name) AS groups,
	EXISTS (SELECT FROM members m JOIN groups g ON g.id = m.group_id WHERE m.person_id = p.id
	AND g.administrators) AS by_group`

// AddPerson adds someone; ErrExists when the name is taken.
func (q Q) AddPerson(ctx context.Context, p Person) error {
	return q.do(ctx, nil,
		`INSERT INTO people (name, password_hash, administrator, issuer, subject) VALUES ($1, $2, $3, $4, $5)`,
		p.Name, p.PasswordHash, p.Administrator, p.Issuer, p.Subject)
}

// PersonByName finds someone.
func (q Q) PersonByName(ctx context.Context, name string) (p Person, err error) {
	err = q.get(ctx, &p, `SELECT `+personColumns+` FROM people p WHERE name = $1`, name)
	return p, err
}

// PersonBySubject finds who somebody at an issuer is here.
func (q Q) PersonBySubject(ctx context.Context, issuer, subject string) (p Person, err error) {
	err = q.get(ctx, &p, `SELECT `+personColumns+` FROM people p WHERE issuer = $1 AND subject = $2`, issuer, subject)
	return p, err
}

// People lists people by name.
func (q Q) People(ctx context.Context, page Page) (list []Person, err error) {
	err = q.list(ctx, &list, `SELECT `+personColumns+` FROM people p WHERE true`+paged("p.name"), page.args()...)
	return list, err
}

// CountPeople tells how many there are.
func (q Q) CountPeople(ctx context.Context) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM people`)
	return n, err
}

// LockPeople holds who may what for the transaction.
func (q Q) LockPeople(ctx context.Context) error { return q.hold(ctx, peopleLock) }

// CountAdministrators tells how many people who may sign in are administrators.
func (q Q) CountAdministrators(ctx context.Context) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM people p WHERE NOT disabled AND (administrator OR EXISTS (
		SELECT FROM members m JOIN groups g ON g.id = m.group_id WHERE m.person_id = p.id AND g.administrators))`)
	return n, err
}

// ChangePerson writes whether someone may sign in and is an administrator.
func (q Q) ChangePerson(ctx context.Context, id record.PersonID, administrator, disabled bool) error {
	return q.do(ctx, ErrNotFound, `UPDATE people SET administrator = $2, disabled = $3 WHERE id = $1`, id, administrator,
		disabled)
}

// SetPassword writes someone's password.
func (q Q) SetPassword(ctx context.Context, id record.PersonID, hash string) error {
	return q.do(ctx, ErrNotFound, `UPDATE people SET password_hash = $2 WHERE id = $1`, id, hash)
}

// AddSession opens a session known by the hash of its token.
func (q Q) AddSession(ctx context.Context, tokenHash []byte, person record.PersonID, until time.Time, address string,
	byIssuer bool) error {
	if err := q.do(ctx, nil,
		`INSERT INTO sessions (token_hash, person_id, expires_at, address, by_issuer) VALUES ($1, $2, $3, $4, $5)`,
		tokenHash, person, until, address, byIssuer); err != nil {
		return err
	}
	return q.do(ctx, nil, `UPDATE people SET seen_at = now() WHERE id = $1`, person)
}

// AddRedeemable notes the hash of a code by which a program may sign in as somebody, once.
func (q Q) AddRedeemable(ctx context.Context, hash []byte, person record.PersonID, challenge string,
	until time.Time) error {
	return q.do(ctx, nil, `INSERT INTO redeemable (hash, person_id, challenge, until) VALUES ($1, $2, $3, $4)`, hash,
		person, challenge, until)
}

// Redeem takes a code, which is good no more then, and tells whose it was and what its challenge; ErrNotFound when
// there is none in its time.
func (q Q) Redeem(ctx context.Context, hash []byte) (p Person, challenge string, err error) {
	var taken struct {
		Person    int64  `db:"person_id"`
		Challenge string `db:"challenge"`
		Good      bool   `db:"good"`
	}
	if err := q.get(ctx, &taken,
		`DELETE FROM redeemable WHERE hash = $1 RETURNING person_id, challenge, until > now() AS good`, hash); err != nil {
		return p, "", err
	}
	if !taken.Good {
		return p, "", ErrNotFound
	}
	err = q.get(ctx, &p, `SELECT `+personColumns+` FROM people p WHERE id = $1`, taken.Person)
	return p, taken.Challenge, err
}

// SessionPerson finds who has an unexpired session.
func (q Q) SessionPerson(ctx context.Context, tokenHash []byte) (p Person, err error) {
	err = q.get(ctx, &p, `SELECT `+personColumns+` FROM sessions s JOIN people p ON p.id = s.person_id
		WHERE s.token_hash = $1 AND s.expires_at > now() AND NOT p.disabled`, tokenHash)
	return p, err
}

// EndSession closes a session.
func (q Q) EndSession(ctx context.Context, tokenHash []byte) error {
	return q.do(ctx, nil, `DELETE FROM sessions WHERE token_hash = $1`, tokenHash)
}

// EndSessions closes all sessions of someone.
func (q Q) EndSessions(ctx context.Context, person record.PersonID) error {
	return q.do(ctx, nil, `DELETE FROM sessions WHERE person_id = $1`, person)
}

// DropExpired removes sessions and failed sign-ins that are of no use any more.
func (q Q) DropExpired(ctx context.Context) error {
	if err := q.do(ctx, nil, `DELETE FROM redeemable WHERE until < now()`); err != nil {
		return err
	}
	if err := q.do(ctx, nil, `DELETE FROM sessions WHERE expires_at < now()`); err != nil {
		return err
	}
	if err := q.do(ctx, nil, `DELETE FROM devices WHERE made_at < now() - interval '180 days'`); err != nil {
		return err
	}
	return q.do(ctx, nil, `DELETE FROM sign_in_failures WHERE at < now() - interval '1 day'`)
}

// NoteSignInFailure remembers a failed sign-in. from is the address, or the browser when that is known.
func (q Q) NoteSignInFailure(ctx context.Context, name, from string) error {
	return q.do(ctx, nil, `INSERT INTO sign_in_failures (name, address) VALUES ($1, $2)`, name, from)
}

// SignInFailures counts failed sign-ins: of a name from one place, from that place at all, and of the name at all.
type SignInFailures struct {
	Both int        `db:"both"`
	From int        `db:"of_place"`
	Name int        `db:"of_name"`
	Last *time.Time `db:"last"` // of the name from the place
}

// SignInFailures counts what a name has failed, and a place, since a time.
func (q Q) SignInFailures(ctx context.Context, name, from string, since time.Time) (f SignInFailures, err error) {
	err = q.get(ctx, &f, `SELECT count(*) FILTER (WHERE name = $1 AND address = $2) AS both,
		count(*) FILTER (WHERE address = $2) AS of_place,
		count(*) FILTER (WHERE name = $1) AS of_name, max(at) FILTER (WHERE name = $1 AND address = $2) AS last
		FROM sign_in_failures WHERE at > $3 AND (name = $1 OR address = $2)`, name, from, since)
	return f, err
}

// AddDevice remembers a browser by the hash of its token.
func (q Q) AddDevice(ctx context.Context, tokenHash []byte, person record.PersonID) error {
	return q.do(ctx, nil, `INSERT INTO devices (token_hash, person_id) VALUES ($1, $2)`, tokenHash, person)
}

// IsDevice tells whether a browser is one from which somebody has signed in.
func (q Q) IsDevice(ctx context.Context, tokenHash []byte, name string) (is bool, err error) {
	err = q.get(ctx, &is,
		`SELECT EXISTS (SELECT FROM devices d JOIN people p ON p.id = d.person_id WHERE d.token_hash = $1 AND p.name = $2
		AND d.made_at > now() - interval '180 days')`, tokenHash, name)
	return is, err
}

// ForgiveFailures forgets what a name has failed from a place.
func (q Q) ForgiveFailures(ctx context.Context, name, from string) error {
	return q.do(ctx, nil, `DELETE FROM sign_in_failures WHERE name = $1 AND address = $2`, name, from)
}

// Group is people who are given roles together.
type Group struct {
	ID             record.GroupID `db:"id"`
	Name           string         `db:"name"`
	Administrators bool           `db:"administrators"`
	IssuerGroup    string         `db:"issuer_group"`
	Members        Texts          `db:"members"`
}

const groupColumns = `g.id, g.name, g.administrators, g.issuer_group,
	ARRAY(SELECT p.name FROM members m JOIN people p ON p.id = m.person_id WHERE m.group_id = g.id
	ORDER BY p.name) AS members FROM groups g`

// Groups lists all groups by name.
func (q Q) Groups(ctx context.Context, page Page) (list []Group, err error) {
	err = q.list(ctx, &list, `SELECT `+groupColumns+` WHERE true`+paged("g.name"), page.args()...)
	return list, err
}

// GroupByName finds a group.
func (q Q) GroupByName(ctx context.Context, name string) (g Group, err error) {
	err = q.get(ctx, &g, `SELECT `+groupColumns+` WHERE g.name = $1`, name)
	return g, err
}

// SetGroup makes a group or changes it.
func (q Q) SetGroup(ctx context.Context, g Group) error {
	return q.do(ctx, nil, `INSERT INTO groups (name, administrators, issuer_group) VALUES ($1, $2, $3)
		ON CONFLICT (name) DO UPDATE SET administrators = $2, issuer_group = $3`, g.Name, g.Administrators, g.IssuerGroup)
}

// DropGroup removes a group with its grants.
func (q Q) DropGroup(ctx context.Context, id record.GroupID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM groups WHERE id = $1`, id)
}

// SetMembers writes who is in a group by hand; members by the issuer stay.
func (q Q) SetMembers(ctx context.Context, group record.GroupID, people []string) error {
	if err := q.do(ctx, nil, `DELETE FROM members WHERE group_id = $1 AND NOT by_issuer`, group); err != nil {
		return err
	}
	return q.do(ctx, nil,
		`INSERT INTO members (group_id, person_id) SELECT $1, id FROM people WHERE name = ANY($2) ON CONFLICT DO NOTHING`,
		group, people)
}

// SetIssuerGroups makes someone a member of the groups that stand for the issuer's, and of no other such group.
func (q Q) SetIssuerGroups(ctx context.Context, person record.PersonID, issuerGroups []string) error {
	if err := q.do(ctx, nil, `DELETE FROM members WHERE person_id = $1 AND by_issuer`, person); err != nil {
		return err
	}
	return q.do(ctx, nil, `INSERT INTO members (group_id, person_id, by_issuer) SELECT id, $1, true FROM groups
		WHERE issuer_group <> '' AND issuer_group = ANY($2) ON CONFLICT DO NOTHING`, person, issuerGroups)
}

// Grant gives a person or a group a role in a project, or in all.
type Grant struct {
	ID      int64       `db:"id"`
	Project string      `db:"project"` // "": every project
	Person  string      `db:"person"`
	Group   string      `db:"in_group"`
	Role    access.Role `db:"role"`
}

// Grants lists who has which role in a project; in any when project is "". The name by which they are paged is
// PROJECT/PERSON or PROJECT/group GROUP, with * for every project.
func (q Q) Grants(ctx context.Context, project string, page Page) (list []Grant, err error) {
	err = q.list(ctx, &list,
		`SELECT a.id, coalesce(j.name, '') AS project, coalesce(p.name, '') AS person, coalesce(g.name, '') AS in_group,
			a.role
		FROM grants a LEFT JOIN projects j ON j.id = a.project_id LEFT JOIN people p ON p.id = a.person_id LEFT JOIN groups g
		ON g.id = a.group_id
		WHERE ($4 = '' OR j.name = $4 OR a.project_id IS NULL)`+
			paged("(coalesce(j.name, '*') || '/' || coalesce('group ' || g.name, p.name))"), append(page.args(), project)...)
	return list, err
}

// SetGrant gives a role; ErrNotFound when there is no such project, person or group.
func (q Q) SetGrant(ctx context.Context, g Grant) error {
	return q.do(ctx, ErrNotFound, `INSERT INTO grants (project_id, person_id, group_id, role)
		SELECT j.id, p.id, g.id, $4 FROM (SELECT 1) one LEFT JOIN projects j ON j.name = $1 LEFT JOIN people p ON p.name = $2
		LEFT JOIN groups g ON g.name = $3
		WHERE ($1 = '' OR j.id IS NOT NULL) AND num_nonnulls(p.id, g.id) = 1
		ON CONFLICT (project_id, person_id, group_id) DO UPDATE SET role = $4`, g.Project, g.Person, g.Group, string(g.Role))
}

// DropGrant takes a role away; ErrNotFound when there is no such grant.
func (q Q) DropGrant(ctx context.Context, g Grant) error {
	return q.do(ctx, ErrNotFound, `DELETE `+ofGrant, g.Project, g.Person, g.Group)
}

// RoleGiven tells the role of the grant for the same person or group in the same project; ErrNotFound when there is
// none.
func (q Q) RoleGiven(ctx context.Context, g Grant) (role access.Role, err error) {
	err = q.get(ctx, &role, `SELECT a.role `+ofGrant, g.Project, g.Person, g.Group)
	return role, err
}

const ofGrant = `FROM grants a WHERE a.project_id IS NOT DISTINCT FROM (SELECT id FROM projects WHERE name = $1)
	AND ($1 = '' OR a.project_id IS NOT NULL)
	AND (a.person_id = (SELECT id FROM people WHERE name = $2) OR a.group_id = (SELECT id FROM groups WHERE name = $3))`

const rolesOf = `FROM grants a WHERE (a.person_id = $1 OR a.group_id IN (SELECT group_id FROM members
	WHERE person_id = $1))`

// RolesIn lists the roles somebody has in a project, by themselves and by groups. The project need not exist.
func (q Q) RolesIn(ctx context.Context, person record.PersonID, project string) (list []access.Role, err error) {
	err = q.list(ctx, &list,
		`SELECT DISTINCT a.role `+rolesOf+
			` AND (a.project_id IS NULL OR a.project_id = (SELECT id FROM projects WHERE name = $2))`, person, project)
	return list, err
}

// ProjectsOf lists the ids of the projects in which somebody has a role.
func (q Q) ProjectsOf(ctx context.Context, person record.PersonID) (ids []record.ProjectID, err error) {
	err = q.list(ctx, &ids,
		`SELECT j.id FROM projects j WHERE EXISTS (SELECT `+rolesOf+
			` AND (a.project_id IS NULL OR a.project_id = j.id)) ORDER BY j.id`, person)
	return ids, err
}
