package work

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

func TestMain(m *testing.M) { testdb.Main(m, store.Prepare) }

// open is the room on records of its own, with one project and a run of one job that waits.
func open(t *testing.T) (*Work, store.Attempt) {
	t.Helper()
	ctx := ground.AsItself(t.Context())
	st, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	sm, err := stream.Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(sm.Close)
	g, err := ground.New(st, sm, t.TempDir(), 0, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	s := New(g, nil, nil)
	require.NoError(t, st.AddMaster(ctx, store.Master{Recipient: "m", Proof: []byte("x")}))
	require.NoError(t, st.AddProject(ctx, "p", "/srv/p.git", []byte("x"), "m"))
	p, err := st.ProjectByName(ctx, "p")
	require.NoError(t, err)
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: plan.OnPush, Queued: time.Now()}
	pipeline, found := definition.Parse("piston/trunk.toml", []byte("[[job.a.step]]\nscript = \"true\"\n"), nil)
	require.Empty(t, found)
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.AddRun(ctx, q, &run, pipeline) }))
	list, err := st.Attempts(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	return s, list[0]
}

func TestWhatNobodyWaitsForGoesBack(t *testing.T) {
	s, attempt := open(t)
	ctx := ground.AsItself(t.Context())
	gone := &waiter{runner: store.Runner{Name: "gone"}, given: make(chan given, 1)}
	out, err := s.Store.HandOut(ctx, map[record.AttemptID]store.Runner{attempt.ID: gone.runner}, Lease)
	require.NoError(t, err)
	require.NoError(t, s.dispatch.hand(ctx, out, map[record.AttemptID]*waiter{attempt.ID: gone}))
	assert.Empty(t, gone.given)
	a, err := s.Store.AttemptByID(ctx, attempt.ID)
	require.NoError(t, err)
	assert.Equal(t, state.Queued, a.State, "another may have it")
}

func TestNobodyIsRememberedWhoHasGone(t *testing.T) {
	s, _ := open(t)
	ctx, hangUp := context.WithCancel(ground.AsItself(t.Context()))
	hangUp()
	_, err := s.dispatch.wait(ctx, api.ClaimRequest{Runner: "r", Labels: []string{"linux"}, WaitMs: 60_000}, 0, 0, 0)
	require.NoError(t, err)
	assert.Empty(t, s.dispatch.waiting)
}

func TestWhatAStepIsToldOfItsRun(t *testing.T) {
	r := store.Run{Project: "p", Number: 7, Pipeline: "trunk", Trigger: plan.OnProposal, Target: "main", Outside: true, BuildNumber: 5}
	r.Inputs.V = map[string]string{"release-note": "x"}
	r.Env.V = map[string]string{"MODE": "fast", "PISTON_RUN": "forged"}
	env := runEnv(r)
	for name, want := range map[string]string{"PISTON_RUN": "7", "PISTON_TRIGGER": "proposal", "PISTON_TARGET": "main", "PISTON_TRUSTED": "false", "PISTON_BUILD_NUMBER": "5", "MODE": "fast",
		(&definition.Input{Name: "release-note"}).Variable(): "x"} {
		assert.Equal(t, want, env[name], name)
	}
}
