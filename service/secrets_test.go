package service

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func textSecret(v string) api.NewSecret {
	return api.NewSecret{Kind: api.TextSecret, Value: []byte(v)}
}

func addProject(t *testing.T, s *Service, name string) store.Project {
	t.Helper()
	key, to, err := s.Vault.Seal([]byte("whsec_x"))
	require.NoError(t, err)
	require.NoError(t, s.Store.AddProject(asItself(t), name, "/srv/"+name+".git", key, to))
	p, err := s.Store.ProjectByName(asItself(t), name)
	require.NoError(t, err)
	return p
}

func TestASecretsLife(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	expires := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	text := "from the feed's page"
	in := textSecret("the first value")
	in.Settings = &api.SecretSettings{Note: &text, Expires: &expires, Scope: &access.Scope{Branches: []string{"main"}}}
	v, err := s.Secrets.SetSecret(ctx, "tides", "ada", "KEY", in)
	require.NoError(t, err)
	assert.Equal(t, 1, v.Revision)
	assert.Equal(t, 15, v.Size)
	v, err = s.Secrets.SetSecret(ctx, "tides", "grace", "KEY", textSecret("the second value"))
	require.NoError(t, err)
	assert.Equal(t, text, v.Note, "a new value leaves what is said")
	assert.Equal(t, []string{"main"}, v.Scope.Branches)

	v, err = s.Secrets.RestoreSecret(ctx, "tides", "ada", "KEY", 1)
	require.NoError(t, err)
	assert.Equal(t, 3, v.Revision)
	list, err := s.Secrets.Revisions(ctx, "tides", "KEY")
	require.NoError(t, err)
	assert.Equal(t, []int{3, 2, 1}, []int{list[0].Revision, list[1].Revision, list[2].Revision})
	assert.Equal(t, 1, list[0].Restored)
	_, err = s.Secrets.RestoreSecret(ctx, "tides", "ada", "KEY", 9)
	assert.ErrorIs(t, err, ground.ErrNotFound)

	never := time.Time{}
	v, err = s.Secrets.ChangeSecret(ctx, "tides", "KEY", api.SecretSettings{Expires: &never, Scope: &access.Scope{}})
	require.NoError(t, err)
	assert.Nil(t, v.Expires)
	assert.Equal(t, access.Scope{Pipelines: []string{}, Branches: []string{}, Tags: []string{}}, v.Scope)
	_, err = s.Secrets.ChangeSecret(ctx, "tides", "KEY", api.SecretSettings{Scope: &access.Scope{Tags: []string{"["}}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	require.NoError(t, s.Secrets.DropSecret(ctx, "tides", "KEY"))
	assert.ErrorIs(t, s.Secrets.DropSecret(ctx, "tides", "KEY"), ground.ErrNotFound)

	page, err := s.Audit(ctx, ground.AuditFilter{Act: "secret", Limit: 50})
	require.NoError(t, err)
	var acts []string
	for _, a := range page.Acts {
		acts = append(acts, a.Act)
	}
	assert.Equal(t, []string{"secret.drop", "secret.change", "secret.restore", "secret.set", "secret.change", "secret.set"}, acts)
	all, err := json.Marshal(page)
	require.NoError(t, err)
	assert.NotContains(t, string(all), "value\"", "no values in the audit trail")
	assert.NotContains(t, string(all), "the first")
}

func TestAProtectionThatANewValueTakesAwayIsInTheAuditTrail(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	set := func(scope access.Scope) {
		t.Helper()
		in := textSecret("long enough")
		in.Settings = &api.SecretSettings{Scope: &scope}
		_, err := s.Secrets.SetSecret(ctx, "tides", "ada", "KEY", in)
		require.NoError(t, err)
	}
	set(access.Scope{Tags: []string{"v*"}})
	set(access.Scope{Tags: []string{"v*"}})
	set(access.Scope{})
	page, err := s.Audit(ctx, ground.AuditFilter{Act: "secret.change", Limit: 50})
	require.NoError(t, err)
	require.Len(t, page.Acts, 2, "what stays as it was is no change")
	assert.Contains(t, string(page.Acts[0].Before), `"v*"`)
	assert.NotContains(t, string(page.Acts[0].After), `"v*"`)
}

func TestANameIsOneSecretOrASet(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	set := func(name string) error {
		_, err := s.Secrets.SetSecret(ctx, "tides", "ada", name, textSecret("long enough"))
		return err
	}
	require.NoError(t, set("SERVICES:harbour"))
	require.NoError(t, set("SERVICES:sea"))
	assert.ErrorIs(t, set("SERVICES"), ground.ErrInvalid)
	require.NoError(t, set("KEY"))
	assert.ErrorIs(t, set("KEY:member"), ground.ErrInvalid)
}

func TestSharingASecret(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "tides")
	addProject(t, s, "charts")
	addProject(t, s, "hidden")
	ada, actor := addPerson(t, s, "ada"), asItself(t)
	require.NoError(t, s.People.Grant(actor, api.Grant{Project: "tides", Person: "ada", Role: access.Keeper}))
	require.NoError(t, s.People.Grant(actor, api.Grant{Project: "charts", Person: "ada", Role: access.Reader}))
	as := ground.WithWho(ctx, ada)
	_, err := s.Secrets.SetSecret(as, "tides", "ada", "KEY", textSecret("long enough"))
	require.NoError(t, err)
	share := func(with ...string) error {
		_, err := s.Secrets.ChangeSecret(as, "tides", "KEY", api.SecretSettings{Shared: &with})
		return err
	}
	assert.ErrorIs(t, share("charts"), ground.ErrForbidden, "a reader of it cannot give it secrets")
	assert.ErrorIs(t, share("hidden"), ground.ErrNotFound, "what she may not see is not there")
	require.NoError(t, s.People.Grant(actor, api.Grant{Project: "charts", Person: "ada", Role: access.Keeper}))
	require.NoError(t, share("charts"))
	v, err := s.Secrets.Secret(ctx, "charts", "KEY")
	require.NoError(t, err)
	assert.Equal(t, "tides", v.Home)
	_, err = s.Secrets.SetSecret(ctx, "charts", "ada", "KEY", textSecret("another value"))
	assert.ErrorIs(t, err, ground.ErrForbidden, "it is set at home")
	require.NoError(t, s.Secrets.DropSecret(ctx, "charts", "KEY"))
	_, err = s.Secrets.Secret(ctx, "tides", "KEY")
	assert.NoError(t, err, "giving up a shared one leaves it at home")
}

// More share at once than there are connections: one that needed a second while it holds one would wait for itself.
func TestManyShareAtOnce(t *testing.T) {
	s := open(t)
	addProject(t, s, "tides")
	addProject(t, s, "charts")
	ada := addPerson(t, s, "ada")
	for _, project := range []string{"tides", "charts"} {
		require.NoError(t, s.People.Grant(asItself(t), api.Grant{Project: project, Person: "ada", Role: access.Keeper}))
	}
	ctx, cancel := context.WithTimeout(ground.WithWho(t.Context(), ada), time.Minute)
	defer cancel()
	const many = 60
	for n := range many {
		_, err := s.Secrets.SetSecret(ctx, "tides", "ada", fmt.Sprintf("KEY_%d", n), textSecret("long enough"))
		require.NoError(t, err)
	}
	var all sync.WaitGroup
	for n := range many {
		all.Go(func() {
			_, err := s.Secrets.ChangeSecret(ctx, "tides", fmt.Sprintf("KEY_%d", n), api.SecretSettings{Shared: &[]string{"charts"}})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	list, err := s.Secrets.Secrets(ctx, "charts", api.Page{})
	require.NoError(t, err)
	assert.Len(t, list, many)
}

func TestASecretIsNotGivenWhenThatHasChangedSinceThePlan(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	planned(t, s, twoJobs)
	_, err := s.Secrets.SetSecret(ctx, "p", "ada", "KEY", textSecret("the secret value"))
	require.NoError(t, err)
	_, err = s.Secrets.ChangeSecret(ctx, "p", "KEY", api.SecretSettings{Scope: &access.Scope{Tags: []string{"v*"}}})
	require.NoError(t, err)
	w, identity := claim(t, s)
	require.NotNil(t, w)
	opened := opened(t, identity, w.Secrets)
	assert.Equal(t, "{}", string(opened))
}

func TestASecretThatExpiresAfterThePlanIsNotGiven(t *testing.T) {
	s, dsn := openOn(t)
	planned(t, s, twoJobs)
	_, err := s.Secrets.SetSecret(asItself(t), "p", "ada", "KEY", textSecret("the secret value"))
	require.NoError(t, err)
	alter(t, dsn, `UPDATE secrets SET expires_at = now() - interval '1 minute'`)
	w, identity := claim(t, s)
	require.NotNil(t, w)
	opened := opened(t, identity, w.Secrets)
	assert.Equal(t, "{}", string(opened))
}

func TestARunnerOfOneProjectIsHandedNoOthersJobs(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	planned(t, s, twoJobs)
	addProject(t, s, "other")
	for project, wants := range map[string]bool{"other": false, "p": true} {
		token, err := s.People.IssueToken(ctx, api.NewToken{Name: "of " + project, Kind: api.RunnerToken, Project: project})
		require.NoError(t, err)
		who, err := s.People.ByToken(ctx, token.Secret)
		require.NoError(t, err)
		in := claimRequest(t, 500)
		in.Runner = "of-" + project
		w, err := workOf(s.Work.Claim(ground.WithWho(t.Context(), who), in))
		require.NoError(t, err)
		if wants {
			require.NotNil(t, w, project)
		} else {
			require.Nil(t, w, project)
		}
	}
}

func TestARunFromOutsideIsGivenNone(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	p := addProject(t, s, "p")
	_, err := s.Secrets.SetSecret(ctx, "p", "ada", "KEY", textSecret("the secret value"))
	require.NoError(t, err)
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte(twoJobs), nil)
	require.Empty(t, findings)
	// As if planning had let it pass.
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "proposal", Commit: "c0ffee", Outside: true, Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.Empty(t, w.Secrets)
}
