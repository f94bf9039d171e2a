package service

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/people"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/service/work"
)

// opened is what was sealed to a runner.
func opened(t *testing.T, identity *age.X25519Identity, sealed []byte) []byte {
	t.Helper()
	r, err := age.Decrypt(bytes.NewReader(sealed), identity)
	require.NoError(t, err)
	plain, err := io.ReadAll(r)
	require.NoError(t, err)
	return plain
}

// addPerson adds somebody and tells who they are when they ask for something.
func addPerson(t *testing.T, s *Service, name string) ground.Who {
	t.Helper()
	_, err := s.People.AddPerson(asItself(t), api.NewPerson{Name: name})
	require.NoError(t, err)
	p, err := s.Store.PersonByName(asItself(t), name)
	require.NoError(t, err)
	return ground.Who{ID: p.ID, Name: name, Kind: api.PersonToken}
}

func TestSigningIn(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	password, err := s.People.EnsureAdministrator(ctx)
	require.NoError(t, err)
	assert.Len(t, password, 20)
	again, err := s.People.EnsureAdministrator(ctx)
	require.NoError(t, err)
	assert.Empty(t, again, "made once")
	for _, c := range []api.Credentials{{Name: "admin", Password: "wrong"}, {Name: "nobody", Password: password}, {Name: "admin", Password: ""}} {
		_, err := s.People.SignIn(ctx, c, "192.0.2.1", "")
		assert.ErrorIs(t, err, ground.ErrSignIn)
	}
	entry, err := s.People.SignIn(ctx, api.Credentials{Name: "admin", Password: password}, "192.0.2.1", "")
	require.NoError(t, err)
	found, err := s.People.BySession(ctx, entry.Session)
	require.NoError(t, err)
	assert.True(t, found.Rules())
	require.NoError(t, s.People.SignOut(ground.WithWho(ctx, found), entry.Session))
	_, err = s.People.BySession(ctx, entry.Session)
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestWhoWasKeptOutComesBackByANewSession(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	_, err := s.People.EnsureAdministrator(ctx)
	require.NoError(t, err)
	made, err := s.People.AddPerson(ctx, api.NewPerson{Name: "ada"})
	require.NoError(t, err)
	entry, err := s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: made.Password}, "192.0.2.1", "")
	require.NoError(t, err)
	yes, no := true, false
	_, err = s.People.ChangePerson(ctx, "ada", api.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	_, err = s.People.BySession(ctx, entry.Session)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.People.ChangePerson(ctx, "ada", api.PersonChange{Disabled: &no})
	require.NoError(t, err)
	_, err = s.People.BySession(ctx, entry.Session)
	assert.ErrorIs(t, err, ground.ErrNotFound, "the old one is gone for good")
	_, err = s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: made.Password}, "192.0.2.1", "")
	assert.NoError(t, err)
}

func TestTheAuditTrailTellsByWhichDoor(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	ada := addPerson(t, s, "ada")
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "tides", Person: "ada", Role: access.Keeper}))
	token, err := s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "desk", Kind: api.PersonToken})
	require.NoError(t, err)
	byToken, err := s.People.ByToken(ctx, token.Secret)
	require.NoError(t, err)
	for name, w := range map[string]ground.Who{"BY_SESSION": ada, "BY_TOKEN": byToken, "BY_ITSELF": ground.WhoAsks(ctx)} {
		_, err := s.Secrets.SetSecret(ground.WithWho(ctx, w), "tides", w.Name, name, textSecret("long enough"))
		require.NoError(t, err)
	}
	page, err := s.Audit(ctx, ground.AuditFilter{Act: "secret.set", Limit: 10})
	require.NoError(t, err)
	doors := map[string]string{}
	for _, a := range page.Acts {
		doors[a.Subject] = a.Door + " " + a.Who
	}
	assert.Equal(t, map[string]string{"BY_SESSION": "session ada", "BY_TOKEN": "token ada", "BY_ITSELF": "service the service"}, doors)
}

func TestGuessingPasswordsIsSlowAndLocksNobodyElseOut(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	made, err := s.People.AddPerson(ctx, api.NewPerson{Name: "ada"})
	require.NoError(t, err)
	right := api.Credentials{Name: "ada", Password: made.Password}
	wrong := api.Credentials{Name: "ada", Password: "guess"}
	entry, err := s.People.SignIn(ctx, right, "192.0.2.7", "")
	require.NoError(t, err)
	for range people.FreeFailures {
		_, err := s.People.SignIn(ctx, wrong, "192.0.2.7", "")
		assert.ErrorIs(t, err, ground.ErrSignIn)
	}
	_, err = s.People.SignIn(ctx, right, "192.0.2.7", "")
	var wait people.TooMany
	require.ErrorAs(t, err, &wait, "even the right password has to wait, so that a guess is not told from it")
	assert.Positive(t, wait.Wait)
	_, err = s.People.SignIn(ctx, right, "192.0.2.8", "")
	assert.NoError(t, err, "from elsewhere she comes in")
	_, err = s.People.SignIn(ctx, right, "192.0.2.7", entry.Device)
	assert.NoError(t, err, "and with a browser that is known, even from there")

	// Many places guess one name: unknown places have to wait, known browsers not.
	for n := range people.MaxNameFailures {
		require.NoError(t, s.Store.NoteSignInFailure(ctx, "ada", fmt.Sprintf("198.51.100.%d", n)))
	}
	_, err = s.People.SignIn(ctx, right, "203.0.113.1", "")
	assert.ErrorAs(t, err, &wait)
	_, err = s.People.SignIn(ctx, right, "203.0.113.1", entry.Device)
	assert.NoError(t, err)
	_, err = s.People.SignIn(ctx, api.Credentials{Name: "grace", Password: "x"}, "203.0.113.1", entry.Device)
	assert.ErrorIs(t, err, ground.ErrSignIn, "a browser is known for its own person only")
}

func TestThereIsAlwaysAnAdministrator(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	_, err := s.People.EnsureAdministrator(ctx)
	require.NoError(t, err)
	yes, no := true, false
	_, err = s.People.ChangePerson(ctx, "admin", api.PersonChange{Administrator: &no})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.People.ChangePerson(ctx, "admin", api.PersonChange{Disabled: &yes})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	addPerson(t, s, "ada")
	_, err = s.People.SetGroup(ctx, "ops", api.GroupChange{Administrators: true, Members: []string{"ada"}})
	require.NoError(t, err)
	p, err := s.People.ChangePerson(ctx, "admin", api.PersonChange{Administrator: &no})
	require.NoError(t, err)
	assert.False(t, p.Administrator)
	assert.ErrorIs(t, s.People.DropGroup(ctx, "ops"), ground.ErrInvalid, "now she is the last one")
	_, err = s.People.SetGroup(ctx, "ops", api.GroupChange{Administrators: true, Members: []string{"nobody"}})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestRolesAndWhatTokensBound(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	addProject(t, s, "charts")
	ada := addPerson(t, s, "ada")
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "tides", Person: "ada", Role: access.Keeper}))
	role := func(w ground.Who, project string) access.Role {
		t.Helper()
		r, err := s.RoleIn(ctx, w, project)
		require.NoError(t, err)
		return r
	}
	assert.Equal(t, access.Keeper, role(ada, "tides"))
	assert.Equal(t, access.Nobody, role(ada, "charts"))
	assert.Equal(t, access.Nobody, role(ada, "none"))
	token, err := s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "t", Kind: api.PersonToken, Role: access.Reader, Project: "tides", Days: 1})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(token.Secret, people.TokenPrefix))
	found, err := s.People.ByToken(ctx, token.Secret)
	require.NoError(t, err)
	assert.Equal(t, access.Reader, role(found, "tides"))
	_, err = s.People.IssueToken(ground.WithWho(ctx, found), api.NewToken{Name: "more", Kind: api.PersonToken, Role: access.Keeper, Project: "tides"})
	assert.ErrorIs(t, err, ground.ErrForbidden, "a token makes none that may do more")
	_, err = s.People.IssueToken(ground.WithWho(ctx, found), api.NewToken{Name: "wider", Kind: api.PersonToken})
	assert.ErrorIs(t, err, ground.ErrForbidden)
	for _, days := range []int{0, 2} {
		_, err = s.People.IssueToken(ground.WithWho(ctx, found), api.NewToken{Name: "longer", Kind: api.PersonToken, Project: "tides", Days: days})
		assert.ErrorIs(t, err, ground.ErrForbidden, "nor one that outlives it")
	}
	reader, err := s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "reader", Kind: api.PersonToken, Role: access.Reader})
	require.NoError(t, err)
	maker, err := s.People.ByToken(ctx, reader.Secret)
	require.NoError(t, err)
	heir, err := s.People.IssueToken(ground.WithWho(ctx, maker), api.NewToken{Name: "heir", Kind: api.PersonToken})
	require.NoError(t, err)
	assert.Equal(t, access.Reader, heir.Role, "what is not said is what its maker may")
	made, err := s.People.ByToken(ctx, heir.Secret)
	require.NoError(t, err)
	assert.Equal(t, access.Reader, role(made, "tides"))
	other, err := s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "other", Kind: api.PersonToken})
	require.NoError(t, err)
	assert.ErrorIs(t, s.People.RevokeToken(ground.WithWho(ctx, found), other.ID), ground.ErrForbidden, "nor does it revoke another")
	_, err = s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "t", Kind: api.PersonToken, Project: "charts"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	require.NoError(t, s.People.Grant(ctx, api.Grant{Person: "ada", Role: access.Reader}))
	assert.Equal(t, access.Reader, role(ada, "charts"), "a role in every project")
	assert.Equal(t, access.Nobody, role(found, "charts"), "the token is for one")

	for _, bad := range []api.Grant{{Role: access.Reader}, {Person: "ada", Group: "g", Role: access.Reader}, {Person: "ada", Role: "owner"}, {Person: "ada", Role: access.Administrator}} {
		assert.ErrorIs(t, s.People.Grant(ctx, bad), ground.ErrInvalid, "%+v", bad)
	}
	assert.ErrorIs(t, s.People.Grant(ctx, api.Grant{Person: "nobody", Role: access.Reader}), ground.ErrNotFound)

	require.NoError(t, s.People.RevokeToken(ground.WithWho(ctx, found), token.ID), "itself it may")
	_, err = s.People.ByToken(ctx, token.Secret)
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestTokensOfOthersAreNotThere(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	ada, grace := addPerson(t, s, "ada"), addPerson(t, s, "grace")
	token, err := s.People.IssueToken(ground.WithWho(ctx, ada), api.NewToken{Name: "t", Kind: api.PersonToken})
	require.NoError(t, err)
	assert.ErrorIs(t, s.People.RevokeToken(ground.WithWho(ctx, grace), token.ID), ground.ErrNotFound)
	list, err := s.People.Tokens(ground.WithWho(ctx, grace), 0, "", 10)
	require.NoError(t, err)
	assert.Empty(t, list)
	list, err = s.People.Tokens(ground.WithWho(ctx, ground.Who{ID: grace.ID, Kind: api.PersonToken, Administrator: true}), 0, "", 10)
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

func TestAnExpiredTokenSaysSo(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	token, err := s.People.IssueToken(ground.WithWho(ctx, addPerson(t, s, "ada")), api.NewToken{Name: "t", Kind: api.PersonToken, Days: 1})
	require.NoError(t, err)
	_, err = s.People.ByToken(ctx, token.Secret)
	require.NoError(t, err)
	// The clock cannot be turned, so the token is made one that was good until a moment ago.
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(ctx, `UPDATE tokens SET expires_at = now() - interval '1 second' WHERE id = $1`, token.ID)
	require.NoError(t, err)
	_, err = s.People.ByToken(ctx, token.Secret)
	assert.ErrorIs(t, err, people.ErrExpired)
}

func TestWhatSomebodySeesOfOtherProjects(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	addProject(t, s, "charts")
	ada := addPerson(t, s, "ada")
	as := ground.WithWho(ctx, ada)
	list, err := s.Projects.Projects(as, api.Page{})
	require.NoError(t, err)
	assert.Empty(t, list)
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "charts", Person: "ada", Role: access.Reader}))
	list, err = s.Projects.Projects(as, api.Page{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "charts", list[0].Name)
	_, err = s.Work.Queue(as, work.QueueFilter{Project: "tides", Limit: 5})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	me, err := s.People.Me(as)
	require.NoError(t, err)
	assert.Equal(t, map[string]access.Role{"charts": access.Reader}, me.Roles)
	assert.ErrorIs(t, s.Report.Subscribe(as, report.Subscription{Project: "tides"}, deaf{}), ground.ErrNotFound)
	gone := errors.New("the session is over")
	assert.ErrorIs(t, s.Report.Subscribe(as, report.Subscription{Still: func(context.Context) error { return gone }}, deaf{}), gone)
}

func TestTheQueueAndTheStreamHoldNothingOfOtherProjects(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "charts")
	run := planned(t, s, twoJobs) // of project p
	ada := addPerson(t, s, "ada")
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "charts", Person: "ada", Role: access.Keeper}))
	as, all := ground.WithWho(ctx, ada), ground.WithWho(ctx, ground.Who{ID: ada.ID, Kind: api.PersonToken, Administrator: true})
	count := func(ctx context.Context) int {
		t.Helper()
		page, err := s.Work.Queue(ctx, work.QueueFilter{Limit: 5})
		require.NoError(t, err)
		require.Len(t, page.Jobs, page.Total)
		return page.Total
	}
	assert.Equal(t, 1, count(all))
	assert.Zero(t, count(as))
	hers, everything := &ears{}, &ears{}
	listening, stop := context.WithCancel(ctx)
	defer stop()
	go func() { _ = s.Report.Subscribe(ground.WithWho(listening, ada), report.Subscription{}, hers) }()
	go func() {
		_ = s.Report.Subscribe(ground.WithWho(listening, ground.WhoAsks(all)), report.Subscription{}, everything)
	}()
	require.Eventually(t, func() bool { return hers.begun.Load() && everything.begun.Load() }, 30*time.Second, 5*time.Millisecond)
	require.NoError(t, s.Work.StopRun(all, "p", run.Number, "ada"))
	require.Eventually(t, func() bool { return everything.changes.Load() > 0 }, 30*time.Second, 5*time.Millisecond)
	assert.Zero(t, hers.changes.Load(), "she is told nothing of it")
}

// ears count what a subscription brings.
type ears struct {
	deaf
	begun   atomic.Bool
	changes atomic.Int32
}

func (e *ears) Hello(uint64, map[string]int64) error {
	e.begun.Store(true)
	return nil
}

func (e *ears) Change(uint64, map[string]int64, api.Change) error {
	e.changes.Add(1)
	return nil
}

// deaf listens to nothing.
type deaf struct{}

func (deaf) Hello(uint64, map[string]int64) error               { return errors.New("must not be told anything") }
func (deaf) Change(uint64, map[string]int64, api.Change) error  { return nil }
func (deaf) Lines(uint64, map[string]int64, api.LogBatch) error { return nil }
func (deaf) Idle() error                                        { return nil }

func TestPasswords(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	made, err := s.People.AddPerson(ctx, api.NewPerson{Name: "ada"})
	require.NoError(t, err)
	p, err := s.Store.PersonByName(ctx, "ada")
	require.NoError(t, err)
	as := ground.WithWho(ctx, ground.Who{ID: p.ID, Name: "ada", Kind: api.PersonToken})
	assert.ErrorIs(t, s.People.ChangePassword(as, api.OwnPassword{Old: "wrong", New: "a new long password"}), ground.ErrSignIn)
	entry, err := s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: made.Password}, "192.0.2.1", "")
	require.NoError(t, err)
	require.NoError(t, s.People.ChangePassword(as, api.OwnPassword{Old: made.Password, New: "a new long password"}))
	_, err = s.People.BySession(ctx, entry.Session)
	assert.ErrorIs(t, err, ground.ErrNotFound, "sessions end with the old password")
	_, err = s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: "a new long password"}, "192.0.2.1", "")
	assert.NoError(t, err)
	reset, err := s.People.ResetPassword(ctx, "ada")
	require.NoError(t, err)
	_, err = s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: reset.Password}, "192.0.2.1", "")
	assert.NoError(t, err)
	_, err = s.People.AddPerson(ctx, api.NewPerson{Name: "ada"})
	assert.ErrorIs(t, err, ground.ErrExists)
}

func TestTheAuditTrailTellsTheRoleThereWas(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	addPerson(t, s, "ada")
	for _, project := range []string{"tides", ""} {
		g := api.Grant{Project: project, Person: "ada", Role: access.Reader}
		require.NoError(t, s.People.Grant(ctx, g))
		g.Role = access.Keeper
		require.NoError(t, s.People.Grant(ctx, g))
		require.NoError(t, s.People.DropGrant(ctx, g))
		assert.ErrorIs(t, s.People.DropGrant(ctx, g), ground.ErrNotFound)
		page, err := s.Audit(ctx, ground.AuditFilter{Act: "role", Limit: 3})
		require.NoError(t, err)
		var changes []string
		for _, a := range page.Acts {
			changes = append(changes, a.Act+" "+string(a.Before)+" → "+string(a.After))
		}
		assert.Equal(t, []string{`role.take {"role": "keeper"} → `, `role.grant {"role": "reader"} → {"role": "keeper"}`, `role.grant  → {"role": "reader"}`}, changes, "%q", project)
	}
}

// A context in which nobody is named may nothing: who forgets to say who asks gets less, not everything.
func TestNobodyMayNothing(t *testing.T) {
	s := open(t)
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	nobody := t.Context()
	list, err := s.Projects.Projects(nobody, api.Page{})
	require.NoError(t, err)
	assert.Empty(t, list)
	names, err := s.VisibleNames(nobody)
	require.NoError(t, err)
	assert.Empty(t, names)
	_, err = s.VisibleProject(nobody, "p")
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.Secrets.SetSecret(nobody, "p", "", "KEY", api.NewSecret{Kind: api.TextSecret, Value: []byte("a value of some length")})
	assert.ErrorIs(t, err, ground.ErrForbidden)
	secrets, err := s.Secrets.Secrets(asItself(t), "p", api.Page{})
	require.NoError(t, err)
	assert.Empty(t, secrets, "nothing is left of what was refused")
	role, err := s.RoleIn(nobody, ground.WhoAsks(nobody), "p")
	require.NoError(t, err)
	assert.Equal(t, access.Nobody, role)
	assert.False(t, ground.WhoAsks(nobody).Rules())
}
