package service

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// acts are the kinds of what the audit trail holds, newest first.
func acts(t *testing.T, s *Service) (kinds []string) {
	t.Helper()
	page, err := s.Audit(asItself(t), ground.AuditFilter{Limit: 50})
	require.NoError(t, err)
	for _, a := range page.Acts {
		kinds = append(kinds, a.Act)
	}
	return kinds
}

func TestAFactIsToldOnceAndAllFollowsFromIt(t *testing.T) {
	s := open(t)
	p := addProject(t, s, "tides")
	woken, stop, err := s.Stream.OnWake(ground.JobsTopic)
	require.NoError(t, err)
	defer stop()
	held := fact.Fact{Kind: fact.ProjectHold, Project: "tides", After: map[string]string{"reason": "x"}}
	require.NoError(t, s.Acting(asItself(t), held, func(q ground.Q) error { return q.HoldProject(asItself(t), p.ID, "x", "ada") }))
	select {
	case <-woken:
	case <-time.After(10 * time.Second):
		t.Error("who waits for work is not woken")
	}
	assert.Equal(t, []string{"project.hold"}, acts(t, s))

	undone := errors.New("the rest fails")
	err = s.Tx(asItself(t), func(q ground.Q) error {
		require.NoError(t, q.Tell(asItself(t), held))
		return undone
	})
	assert.ErrorIs(t, err, undone)
	assert.Len(t, acts(t, s), 1, "what did not happen is not told")
	assert.Error(t, s.Tx(asItself(t), func(q ground.Q) error { return q.Tell(asItself(t), fact.Fact{Kind: "project.guessed"}) }))
	err = s.Tx(context.Background(), func(q ground.Q) error { return q.Tell(context.Background(), held) })
	assert.ErrorIs(t, err, ground.ErrForbidden, "nobody does nothing")
}

func TestAFactOfARunReachesWhoWatchesItAndNotTheAudit(t *testing.T) {
	s := open(t)
	run := planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	require.Eventually(t, func() bool { // the events of the planning are on their way
		left, err := s.Store.Outbox(asItself(t))
		return err == nil && len(left) == 0
	}, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, s.Tx(asItself(t), func(q ground.Q) error {
		require.NoError(t, q.Tell(asItself(t), ground.OfRun(fact.RunGoesOn, run)))
		list, err := q.Outbox(asItself(t))
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, store.Change{Project: "p", Run: run.Number, State: run.State}, list[0].Body.V)
		return nil
	}))
	assert.Empty(t, acts(t, s))
}
