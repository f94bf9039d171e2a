package store_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

func TestSecretsAndTheirRevisions(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	require.NoError(t, s.AddProject(ctx, "q", "/srv/q.git", []byte("sealed"), master))
	q, err := s.ProjectByName(ctx, "q")
	require.NoError(t, err)
	id, err := s.AddSecret(ctx, p.ID, "KEY")
	require.NoError(t, err)
	for n := 1; n <= 12; n++ {
		got, err := s.AddRevision(ctx, id, store.Revision{Kind: "text", Ciphertext: []byte{0, 1, byte(n)}, SealedTo: master, Size: 3, By: "ada"})
		require.NoError(t, err)
		assert.Equal(t, n, got)
	}
	_, err = s.AddSecret(ctx, p.ID, "KEY")
	assert.ErrorIs(t, err, store.ErrExists)
	list, err := s.Secrets(ctx, p.ID, store.Page{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, []byte{0, 1, 12}, list[0].Ciphertext)
	assert.Equal(t, "p", list[0].Home)
	kept, err := s.Revisions(ctx, id)
	require.NoError(t, err)
	require.Len(t, kept, 10)
	assert.Equal(t, 12, kept[0].Number)

	until := time.Now().Add(time.Hour).Truncate(time.Second)
	require.NoError(t, s.ChangeSecret(ctx, id, "from the feed's page", &until, access.Scope{Tags: []string{"v*"}}))
	require.NoError(t, s.NameSecret(ctx, q.ID, "KEY", id))
	r := addRun(t, s, p, nil)
	require.NoError(t, s.NoteSecretUse(ctx, r.ID, []record.SecretID{id}))
	shared, err := s.SecretByName(ctx, q.ID, "KEY")
	require.NoError(t, err)
	assert.Equal(t, []string{"v*"}, []string(shared.Tags))
	assert.Equal(t, []string{"q"}, []string(shared.Shared))
	assert.Equal(t, r.Number, shared.UsedRun)
	assert.WithinDuration(t, until, *shared.Expires, time.Second)

	_, err = s.AddRevision(ctx, id, store.Revision{Kind: "text", Ciphertext: []byte{1}, SealedTo: "age1new", By: "ada"})
	assert.ErrorIs(t, err, store.ErrMaster, "of which nobody knows")
	require.NoError(t, s.AddMaster(ctx, store.Master{Recipient: "age1new", Proof: []byte("proof")}))
	assert.ErrorIs(t, s.KeepMaster(ctx, "age1new"), store.ErrMaster, "the former is needed")
	require.NoError(t, s.Tx(ctx, func(tx store.Q) error {
		sealed, err := tx.SealedToOthers(ctx, "age1new", 100)
		require.Len(t, sealed, 12, "ten values and two hook keys")
		for _, one := range sealed {
			one.Ciphertext = []byte("anew")
			require.NoError(t, tx.SealAnew(ctx, one, "age1new"))
		}
		return err
	}))
	require.NoError(t, s.KeepMaster(ctx, "age1new"))
	assert.ErrorIs(t, s.AddProject(ctx, "r", "/srv/r.git", []byte("sealed"), master), store.ErrMaster, "it is forgotten")

	require.NoError(t, s.UnnameSecret(ctx, q.ID, id))
	_, err = s.SecretByName(ctx, q.ID, "KEY")
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.DropSecret(ctx, id))
	assert.ErrorIs(t, s.DropSecret(ctx, id), store.ErrNotFound)
	kept, err = s.Revisions(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, kept, "its values are gone with it")
}

func addPerson(t *testing.T, s *store.Store, name string) store.Person {
	t.Helper()
	require.NoError(t, s.AddPerson(t.Context(), store.Person{Name: name, PasswordHash: "hash"}))
	p, err := s.PersonByName(t.Context(), name)
	require.NoError(t, err)
	return p
}

func TestPeopleSessionsAndTokens(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	ada := addPerson(t, s, "ada")
	assert.ErrorIs(t, s.AddPerson(ctx, store.Person{Name: "ada"}), store.ErrExists)
	require.NoError(t, s.AddSession(ctx, []byte("live"), ada.ID, time.Now().Add(time.Hour), "192.0.2.1", false))
	require.NoError(t, s.AddSession(ctx, []byte("old"), ada.ID, time.Now().Add(-time.Second), "", false))
	_, err := s.SessionPerson(ctx, []byte("live"))
	require.NoError(t, err)
	_, err = s.SessionPerson(ctx, []byte("old"))
	assert.ErrorIs(t, err, store.ErrNotFound, "an expired session is none")
	require.NoError(t, s.DropExpired(ctx))

	own, err := s.AddToken(ctx, store.NewToken{Hash: []byte("t1"), Name: "laptop", Kind: "person", PersonID: ada.ID, Role: access.Reader})
	require.NoError(t, err)
	assert.Equal(t, "ada", own.Person)
	machine, err := s.AddToken(ctx, store.NewToken{Hash: []byte("t2"), Name: "box", Kind: "runner"})
	require.NoError(t, err)
	assert.Empty(t, machine.Person)
	found, err := s.TokenByHash(ctx, []byte("t1"))
	require.NoError(t, err)
	assert.Equal(t, own.ID, found.ID)
	assert.Equal(t, access.Reader, found.Role)
	mine, err := s.Tokens(ctx, ada.ID, 0, "", 10)
	require.NoError(t, err)
	assert.Len(t, mine, 1)

	require.NoError(t, s.ChangePerson(ctx, ada.ID, false, true))
	_, err = s.SessionPerson(ctx, []byte("live"))
	assert.ErrorIs(t, err, store.ErrNotFound, "whoever is kept out has no session")
	_, err = s.TokenByHash(ctx, []byte("t1"))
	assert.ErrorIs(t, err, store.ErrNotFound, "nor a token")
	require.NoError(t, s.RevokeToken(ctx, own.ID))
	assert.ErrorIs(t, s.RevokeToken(ctx, own.ID), store.ErrNotFound)
}

func TestRolesComeByPersonByGroupAndForEveryProject(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	ada, grace := addPerson(t, s, "ada"), addPerson(t, s, "grace")
	require.NoError(t, s.SetGroup(ctx, store.Group{Name: "mobile"}))
	g, err := s.GroupByName(ctx, "mobile")
	require.NoError(t, err)
	require.NoError(t, s.SetMembers(ctx, g.ID, []string{"ada"}))
	require.NoError(t, s.SetGrant(ctx, store.Grant{Project: "p", Group: "mobile", Role: access.Builder}))
	require.NoError(t, s.SetGrant(ctx, store.Grant{Person: "ada", Role: access.Reader}))
	assert.ErrorIs(t, s.SetGrant(ctx, store.Grant{Project: "none", Person: "ada", Role: access.Reader}), store.ErrNotFound)
	assert.ErrorIs(t, s.SetGrant(ctx, store.Grant{Person: "nobody", Role: access.Reader}), store.ErrNotFound)
	roles, err := s.RolesIn(ctx, ada.ID, "p")
	require.NoError(t, err)
	assert.ElementsMatch(t, []access.Role{access.Builder, access.Reader}, roles)
	roles, err = s.RolesIn(ctx, grace.ID, "p")
	require.NoError(t, err)
	assert.Empty(t, roles)
	ids, err := s.ProjectsOf(ctx, ada.ID)
	require.NoError(t, err)
	assert.Equal(t, []record.ProjectID{p.ID}, ids)
	require.NoError(t, s.DropGrant(ctx, store.Grant{Person: "ada"}))
	assert.ErrorIs(t, s.DropGrant(ctx, store.Grant{Person: "ada"}), store.ErrNotFound)
	require.NoError(t, s.DropGroup(ctx, g.ID))
	ids, err = s.ProjectsOf(ctx, ada.ID)
	require.NoError(t, err)
	assert.Empty(t, ids)
}

func TestMembersByTheIssuerComeAndGoWithIt(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	ada := addPerson(t, s, "ada")
	require.NoError(t, s.SetGroup(ctx, store.Group{Name: "ops", IssuerGroup: "operations", Administrators: true}))
	require.NoError(t, s.SetIssuerGroups(ctx, ada.ID, []string{"operations", "", "other"}))
	n, err := s.CountAdministrators(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.NoError(t, s.SetIssuerGroups(ctx, ada.ID, nil))
	g, err := s.GroupByName(ctx, "ops")
	require.NoError(t, err)
	assert.Empty(t, g.Members)
}

func TestTheAuditTrailCannotBeChanged(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	require.NoError(t, s.AddAct(ctx, store.Act{Who: "ada", Door: "session", Act: "secret.set", Project: "p", Subject: "KEY", After: []byte(`{"revision":1}`)}))
	require.NoError(t, s.AddAct(ctx, store.Act{Who: "ada", Door: "session", Act: "secretary.hire"}))
	for _, statement := range []string{"UPDATE audit SET who = 'grace'", "DELETE FROM audit", "TRUNCATE audit"} {
		assert.ErrorContains(t, s.Tx(ctx, func(q store.Q) error { return store.Exec(ctx, q, statement) }), "only ever added to", statement)
	}
	list, err := s.Acts(ctx, store.ActFilter{Act: "secret", Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1, "a beginning ends at a dot")
	assert.JSONEq(t, `{"revision":1}`, string(list[0].After))
}

func TestFailuresAreCountedByNameAndByPlace(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	for range 3 {
		require.NoError(t, s.NoteSignInFailure(ctx, "ada", "192.0.2.1"))
	}
	require.NoError(t, s.NoteSignInFailure(ctx, "grace", "192.0.2.1"))
	require.NoError(t, s.NoteSignInFailure(ctx, "ada", "192.0.2.9"))
	f, err := s.SignInFailures(ctx, "ada", "192.0.2.1", time.Now().Add(-time.Minute))
	require.NoError(t, err)
	assert.Equal(t, []int{3, 4, 4}, []int{f.Both, f.From, f.Name})
	require.NoError(t, s.ForgiveFailures(ctx, "ada", "192.0.2.1"))
	f, err = s.SignInFailures(ctx, "ada", "192.0.2.1", time.Now().Add(-time.Minute))
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, 1}, []int{f.Both, f.From, f.Name})
}

func TestARunnersTokenOpensItsAttemptAndItsSources(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	require.NoError(t, s.AddProject(ctx, "charts", "/srv/charts.git", []byte("sealed"), master))
	charts, err := s.ProjectByName(ctx, "charts")
	require.NoError(t, err)
	id := addAttempt(t, s, addRun(t, s, p, nil), "j", []string{"linux"}, time.Now())
	token, err := s.AddToken(ctx, store.NewToken{Hash: []byte("box"), Name: "box", Kind: "runner"})
	require.NoError(t, err)
	given, err := s.HandOut(ctx, map[record.AttemptID]store.Runner{id: {Name: "box", Token: token.ID + 99}}, time.Minute)
	require.NoError(t, err)
	assert.Empty(t, given, "nothing is handed to a token that is not there")
	_, err = s.HandOut(ctx, map[record.AttemptID]store.Runner{id: {Name: "box", Token: token.ID}}, time.Minute)
	require.NoError(t, err)
	check := func(want bool, is func(context.Context) (bool, error)) {
		t.Helper()
		got, err := is(ctx)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	check(true, func(ctx context.Context) (bool, error) { return s.IsOfToken(ctx, id, token.ID) })
	check(false, func(ctx context.Context) (bool, error) { return s.IsOfToken(ctx, id, token.ID+1) })
	check(true, func(ctx context.Context) (bool, error) { return s.IsSourceOf(ctx, "p", token.ID) })
	check(false, func(ctx context.Context) (bool, error) { return s.IsSourceOf(ctx, "p", token.ID+1) })
	check(false, func(ctx context.Context) (bool, error) { return s.IsSourceOf(ctx, "charts", token.ID) })
	require.NoError(t, s.SetLendings(ctx, charts.ID, []string{"p"}))
	check(true, func(ctx context.Context) (bool, error) { return s.IsSourceOf(ctx, "charts", token.ID) })
}

func TestListsByNameArePagedAndFiltered(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	for _, name := range []string{"ada", "Ben", "b_c", "bxc", "cleo"} {
		require.NoError(t, s.AddPerson(ctx, store.Person{Name: name}))
		require.NoError(t, s.SetGroup(ctx, store.Group{Name: "of-" + name}))
		require.NoError(t, s.SetGrant(ctx, store.Grant{Project: "p", Person: name, Role: access.Reader}))
		id, err := s.AddSecret(ctx, p.ID, name)
		require.NoError(t, err)
		_, err = s.AddRevision(ctx, id, store.Revision{Kind: "text", Ciphertext: []byte{1}, SealedTo: master, By: "ada"})
		require.NoError(t, err)
		require.NoError(t, s.AddProject(ctx, name, "/srv/"+name+".git", []byte("sealed"), master))
	}
	require.NoError(t, s.SetGrant(ctx, store.Grant{Group: "of-ada", Role: access.Keeper}))
	lists := map[string]func(store.Page) []string{
		"people": func(page store.Page) (names []string) {
			list, err := s.People(ctx, page)
			require.NoError(t, err)
			for _, v := range list {
				names = append(names, v.Name)
			}
			return names
		},
		"groups": func(page store.Page) (names []string) {
			if page.After != "" {
				page.After = "of-" + page.After
			}
			list, err := s.Groups(ctx, page)
			require.NoError(t, err)
			for _, v := range list {
				names = append(names, strings.TrimPrefix(v.Name, "of-"))
			}
			return names
		},
		"secrets": func(page store.Page) (names []string) {
			list, err := s.Secrets(ctx, p.ID, page)
			require.NoError(t, err)
			for _, v := range list {
				names = append(names, v.Name)
			}
			return names
		},
		"projects": func(page store.Page) (names []string) {
			list, err := s.ProjectsAmong(ctx, nil, true, page)
			require.NoError(t, err)
			for _, v := range list {
				if v.Name != "p" {
					names = append(names, v.Name)
				}
			}
			return names
		},
		"roles": func(page store.Page) (names []string) {
			if page.After != "" {
				page.After = "p/" + page.After
			}
			list, err := s.Grants(ctx, "p", page)
			require.NoError(t, err)
			for _, v := range list {
				if v.Group == "" {
					names = append(names, v.Person)
				}
			}
			return names
		},
	}
	for what, list := range lists {
		assert.Equal(t, []string{"Ben", "ada", "b_c", "bxc", "cleo"}, list(store.Page{}), what)
		assert.Equal(t, []string{"bxc", "cleo"}, list(store.Page{After: "b_c"}), what)
		assert.Equal(t, []string{"b_c"}, list(store.Page{After: "ada", Limit: 1}), what)
		assert.Equal(t, []string{"b_c"}, list(store.Page{Contains: "B_C"}), what+": no letter stands for others")
		assert.Equal(t, []string{"bxc"}, list(store.Page{After: "b_c", Contains: "b"}), what)
	}
	grants, err := s.Grants(ctx, "p", store.Page{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "of-ada", grants[0].Group, "roles in every project come first")
	grants, err = s.Grants(ctx, "", store.Page{After: "*/group of-ada", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "Ben", grants[0].Person)
}
