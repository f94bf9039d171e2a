package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

const wantsKey = "[trigger.push]\n[[job.a.step]]\nscript = \"true\"\nsecrets = [\"KEY\"]\n"

func findingOf(d api.RunDetail, code string) (definition.Finding, bool) {
	for _, f := range d.Findings {
		if f.Code == code {
			return f, true
		}
	}
	return definition.Finding{}, false
}

func TestAProtectedSecretIsRefusedWhenARunIsPlanned(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	in := textSecret("long enough")
	in.Settings = &api.SecretSettings{Scope: &access.Scope{Branches: []string{"main"}, Pipelines: []string{"p"}}}
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", in)
	require.NoError(t, err)
	head := r.commit(map[string]string{"piston/p.toml": wantsKey, "piston/q.toml": wantsKey})
	s.pushed(t, "main", plan.NoCommit, head)
	s.pushed(t, "work/x", plan.NoCommit, head)
	r.git("tag", "v1")
	runs := runsOf(t, s)
	require.Len(t, runs, 4)
	for _, run := range runs {
		d := s.details(t, run.Number)
		if run.Pipeline == "p" && run.Branch == "main" {
			assert.Equal(t, state.Queued, d.State)
			continue
		}
		assert.Equal(t, state.Failed, d.State)
		f, found := findingOf(d, "secret-protected")
		require.True(t, found, "%s of %s", run.Pipeline, run.Branch)
		assert.Equal(t, 4, f.Line, "it tells the line that asks")
		assert.Contains(t, f.Message, "which it does not get")
	}
	// By hand, at a tag, at a bare commit, at the branch.
	for ref, want := range map[string]state.State{"v1": state.Failed, head: state.Failed, "main": state.Queued} {
		run, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p", Ref: ref})
		require.NoError(t, err)
		assert.Equal(t, want, run.State, ref)
	}
}

func TestASecretThatExpires(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	head := r.commit(map[string]string{"piston/p.toml": wantsKey})
	for n, c := range []struct {
		in   time.Duration
		want state.State
		code string
	}{{-time.Hour, state.Failed, "secret-expired"}, {5 * 24 * time.Hour, state.Queued, "secret-expires"}, {90 * 24 * time.Hour, state.Queued, ""}} {
		at := time.Now().Add(c.in)
		in := textSecret("long enough")
		in.Settings = &api.SecretSettings{Expires: &at}
		_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", in)
		require.NoError(t, err)
		s.pushed(t, fmt.Sprintf("b%d", n), plan.NoCommit, head)
		d := s.details(t, record.RunNumber(n+1))
		assert.Equal(t, c.want, d.State, c.code)
		var codes []string
		for _, f := range d.Findings {
			if strings.HasPrefix(f.Code, "secret") {
				codes = append(codes, f.Code)
			}
		}
		assert.Equal(t, c.code, strings.Join(codes, " "))
	}
}

func TestAMemberOfASetThatIsNotThere(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "SERVICES:harbour", textSecret("long enough"))
	require.NoError(t, err)
	s.pushed(t, "main", plan.NoCommit, r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nvariants.over = { FLAVOUR = [\"harbour\", \"sea\"] }\n[[job.a.step]]\nscript = \"true\"\nsecret_files = { \"SERVICES:${FLAVOUR}\" = \"s.json\" }\n"}))
	d := s.details(t, 1)
	f, found := findingOf(d, "secret-not-set")
	require.True(t, found)
	assert.Contains(t, f.Message, "SERVICES:sea, which nobody has set; of SERVICES there are harbour")
	_, err = s.Secrets.SetSecret(ctx, "app", "ada", "SERVICES:sea", textSecret("also long enough"))
	require.NoError(t, err)
	run, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p"})
	require.NoError(t, err)
	require.Equal(t, state.Queued, run.State)
	given := map[string]bool{}
	for range 2 {
		w, identity := claim(t, s)
		require.NotNil(t, w)
		opened := opened(t, identity, w.Secrets)
		given[w.Job.Name+" "+string(opened)] = true
	}
	assert.Len(t, given, 2)
	for text := range given {
		assert.NotContains(t, strings.Replace(text, "a+harbour {\"SERVICES:harbour\"", "", 1), "harbour", "each variant gets its own")
	}
}

func TestACommitThatNobodyHoldsIsAStrangers(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("long enough"))
	require.NoError(t, err)
	r.commit(map[string]string{"piston/p.toml": wantsKey})
	r.git("checkout", "-q", "--detach")
	loose := r.commit(map[string]string{"evil": "1"})
	r.git("update-ref", "refs/outside/41", loose)
	r.git("checkout", "-q", "main")
	run, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p", Ref: loose})
	require.NoError(t, err)
	assert.True(t, run.Outside)
	assert.Equal(t, state.Failed, run.State)
	_, found := findingOf(s.details(t, run.Number), "secret-refused")
	assert.True(t, found)
	r.git("branch", "taken-in", loose)
	run, err = s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p", Ref: loose})
	require.NoError(t, err)
	assert.False(t, run.Outside, "a branch that leads to it makes it ours")
	assert.Equal(t, state.Queued, run.State)
}

func TestASecretThatGitTracksIsReported(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("a-value-that-is-long"))
	require.NoError(t, err)
	s.pushed(t, "main", plan.NoCommit, r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n" + step, "notes.txt": "one\ntwo\nuse a-value-that-is-long for it\n", "clean.txt": "x\n"}))
	d := s.details(t, 1)
	f, found := findingOf(d, "secret-tracked")
	require.True(t, found, "%v", d.Findings)
	assert.Equal(t, "notes.txt", f.File)
	assert.Equal(t, 3, f.Line)
	assert.NotContains(t, f.String(), "a-value-that-is-long")
	assert.Equal(t, state.Queued, d.State, "a warning: the build goes on")
	// A push that does not touch the file says so, too; one without it says nothing any more.
	s.pushed(t, "main", plan.NoCommit, r.commit(map[string]string{"clean.txt": "y\n"}))
	_, found = findingOf(s.details(t, 2), "secret-tracked")
	assert.True(t, found)
	s.pushed(t, "main", plan.NoCommit, r.commit(map[string]string{"notes.txt": "nothing\n"}))
	_, found = findingOf(s.details(t, 3), "secret-tracked")
	assert.False(t, found)
	// A new value is looked for in what was clean before.
	_, err = s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("nothing\n"))
	require.NoError(t, err)
	s.pushed(t, "main", plan.NoCommit, r.commit(map[string]string{"clean.txt": "z\n"}))
	_, found = findingOf(s.details(t, 4), "secret-tracked")
	assert.True(t, found)
}
