package service

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/store"
)

// record lays an event down as a server would that is killed before it has planned it.
func (s *Service) record(t *testing.T, delivery, commit string) record.PushID {
	t.Helper()
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	body := fmt.Sprintf(`{"push":{"updates":[{"ref":"refs/heads/main","before":%q,"after":%q}]}}`, plan.NoCommit, commit)
	id, _, err := s.Store.AddPush(asItself(t), p.ID, delivery, []byte(body))
	require.NoError(t, err)
	return id
}

// planEvent plans a recorded event.
func (s *Service) planEvent(t *testing.T, ctx context.Context, id record.PushID) {
	t.Helper()
	p, err := s.Store.PushByID(asItself(t), id)
	require.NoError(t, err)
	s.Intake.PlanRecorded(ctx, p.ProjectID, id)
}

func (s *Service) pushes(t *testing.T, f store.PushFilter) []api.Push {
	t.Helper()
	f.Limit = 10
	page, err := s.Intake.Pushes(asItself(t), "app", f)
	require.NoError(t, err)
	return page.Pushes
}

func TestWhatEndsTheServerIsSetAside(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	id := s.record(t, "bad", here)
	for range intake.MaxPlanning { // each time it began, and nothing came back
		_, err := s.Store.BeginPlanning(asItself(t), id, 0)
		require.NoError(t, err)
	}
	s.planEvent(t, asItself(t), id)
	runs := runsOf(t, s)
	require.Len(t, runs, 1)
	assert.Equal(t, state.Failed, runs[0].State)
	assert.Equal(t, here, runs[0].Commit)
	assert.Equal(t, "main", runs[0].Branch)
	assert.Contains(t, runs[0].Reason, "ended the server 3 times")
	d, err := s.Report.Run(asItself(t), "app", runs[0].Number)
	require.NoError(t, err)
	require.Len(t, d.Findings, 1)
	assert.Equal(t, "set-aside", d.Findings[0].Code)
	p, err := s.Projects.Project(asItself(t), "app")
	require.NoError(t, err)
	assert.Contains(t, p.Trouble, "ended the server", "the project's page says so")

	aside := s.pushes(t, store.PushFilter{State: "set-aside"})
	require.Len(t, aside, 1)
	assert.Equal(t, []api.PushRef{{Ref: "refs/heads/main", Commit: here}}, aside[0].Refs)
	require.Len(t, aside[0].Runs, 1)
	assert.Equal(t, runs[0].Number, aside[0].Runs[0].Number)

	s.takeIn(t, "good", plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: here})
	assert.Len(t, runsOf(t, s), 2, "everything else goes on")
	s.planEvent(t, asItself(t), id)
	assert.Len(t, runsOf(t, s), 2, "and it stays aside")

	require.NoError(t, s.Intake.RetryPush(asItself(t), "app", id))
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 3 }, 10*time.Second, 20*time.Millisecond)
	assert.Empty(t, s.pushes(t, store.PushFilter{State: "set-aside"}))
	assert.ErrorIs(t, s.Intake.RetryPush(asItself(t), "app", id), ground.ErrNotFound, "once is enough")
}

func TestWhatFailsAndComesBackIsNotCounted(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	id, _, err := s.Store.AddPush(asItself(t), p.ID, "odd", []byte(`{"ended":{"run":999999}}`)) // a run that there is not
	require.NoError(t, err)
	for range intake.MaxPlanning + 2 {
		s.planEvent(t, asItself(t), id)
	}
	push, err := s.Store.PushByID(asItself(t), id)
	require.NoError(t, err)
	assert.Zero(t, push.Begun)
	assert.Nil(t, push.SetAside)
	assert.Empty(t, s.pushes(t, store.PushFilter{Commit: here}))
}

func TestATreeThatHoldsItselfOverAndOver(t *testing.T) {
	s, r := openWithRepository(t)
	// Thirty trees, each of which holds the one before twice: a thousand million files, in a few hundred bytes.
	blob := r.hash("blob", "x")
	tree := r.hash("tree", "100644 blob "+blob+"\tf\n")
	for range 30 {
		tree = r.hash("tree", fmt.Sprintf("040000 tree %s\ta\n040000 tree %s\tb\n", tree, tree))
	}
	commit := r.git("commit-tree", "-m", "Grow", tree)
	r.git("update-ref", "refs/heads/main", commit)
	s.takeIn(t, "bomb", plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: commit})
	runs := runsOf(t, s)
	require.Len(t, runs, 1)
	assert.Contains(t, runs[0].Reason, "more than the service reads")
	assert.Len(t, s.pushes(t, store.PushFilter{State: "set-aside", Commit: commit}), 1)
}

// hash writes an object, a tree from what git ls-tree would print.
func (r repository) hash(kind, text string) string {
	r.t.Helper()
	args := []string{"hash-object", "-w", "--stdin"}
	if kind == "tree" {
		args = []string{"mktree"}
	}
	return r.gitWith(strings.NewReader(text), args...)
}
