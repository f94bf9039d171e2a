package service

import (
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// together runs functions at the same moment, as often as told, and gives what came of each call.
func together(times int, all ...func() error) (came [][]error) {
	came = make([][]error, len(all))
	var over sync.WaitGroup
	for range times {
		start := make(chan struct{})
		for i, do := range all {
			over.Go(func() {
				<-start
				came[i] = append(came[i], do())
			})
		}
		close(start)
		over.Wait()
	}
	return came
}

func TestChangesToOneSecretAtTheSameTime(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "q")
	set := func() error {
		_, err := s.Secrets.SetSecret(ctx, "q", "ada", "KEY", textSecret("the secret value"))
		return err
	}
	came := together(30, set, set, set,
		func() error { _, err := s.Secrets.RestoreSecret(ctx, "q", "ada", "KEY", 1); return err },
		func() error { return s.Secrets.DropSecret(ctx, "q", "KEY") },
		func() error { _, err := s.Vault.RotateMaster(ctx); return err })
	for i, list := range came {
		for _, err := range list {
			// Only that it is removed may come between, in any of them.
			if err != nil && !errors.Is(err, ground.ErrNotFound) {
				t.Errorf("change %d: %v", i, err)
			}
		}
	}
	require.NoError(t, set())
	v, err := s.Secrets.Secret(ctx, "q", "KEY")
	require.NoError(t, err)
	history, err := s.Secrets.Revisions(ctx, "q", "KEY")
	require.NoError(t, err)
	assert.Equal(t, v.Revision, history[0].Revision)
}

func TestTwoAdministratorsCannotTakeEachOtherAway(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addPerson(t, s, "ada")
	addPerson(t, s, "ben")
	change := func(name string, to bool) func() error {
		return func() error {
			_, err := s.People.ChangePerson(ctx, name, api.PersonChange{Administrator: &to})
			return err
		}
	}
	for range 30 {
		require.NoError(t, change("ada", true)())
		require.NoError(t, change("ben", true)())
		came := together(1, change("ada", false), change("ben", false))
		n, err := s.Store.CountAdministrators(ctx)
		require.NoError(t, err)
		require.Equal(t, 1, n, "%v", came)
	}
}

func TestAGroupThatIsRemovedWhileItIsGivenARole(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "q")
	_, err := s.People.EnsureAdministrator(ctx)
	require.NoError(t, err)
	for range 20 {
		_, err := s.People.SetGroup(ctx, "makers", api.GroupChange{})
		require.NoError(t, err)
		came := together(1,
			func() error { return s.People.Grant(ctx, api.Grant{Project: "q", Group: "makers", Role: "reader"}) },
			func() error { return s.People.DropGroup(ctx, "makers") },
			func() error { return s.People.DropGroup(ctx, "makers") })
		if err := came[0][0]; err != nil {
			assert.ErrorIs(t, err, ground.ErrNotFound)
		}
		assert.False(t, came[1][0] == nil && came[2][0] == nil, "it is removed once")
		for _, list := range came[1:] {
			if list[0] != nil {
				assert.ErrorIs(t, list[0], ground.ErrNotFound)
				assert.NotErrorIs(t, list[0], store.ErrNotFound, "it says what was not found")
			}
		}
	}
}

func TestARunThatIsStoppedWhileItsJobsAreHandedOut(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	for range 40 {
		run := planned(t, s, "[[job.a.step]]\nscript = \"true\"\n[[job.b.step]]\nscript = \"true\"\n[[job.c.step]]\nscript = \"true\"\n")
		var of []record.AttemptID
		require.NoError(t, s.Store.Tx(ctx, func(q store.Q) error {
			queue, err := q.Queue(ctx, nil, 0, time.Now())
			for _, j := range queue.Jobs {
				of = append(of, j.ID)
			}
			return err
		}))
		require.Len(t, of, 3)
		came := together(1,
			func() error { return s.Work.StopRun(ctx, "p", run.Number, "ada") },
			func() error {
				to := map[record.AttemptID]store.Runner{}
				for _, id := range of {
					to[id] = store.Runner{Name: "box"}
				}
				_, err := s.Store.HandOut(ctx, to, work.Lease)
				return err
			})
		require.NoError(t, errors.Join(came[0][0], came[1][0]))
		for _, id := range of {
			a, err := s.Store.AttemptByID(ctx, id)
			require.NoError(t, err)
			assert.True(t, a.State == state.Cancelled || a.Stop, "what was handed out is told to stop: %s", a.State)
		}
		// What was handed out ends, so that the queue is empty for the next.
		for _, id := range of {
			if a, _ := s.Store.AttemptByID(ctx, id); a.State == state.Running {
				require.NoError(t, s.Work.FinishAttempt(ctx, id, api.Finish{State: state.Cancelled, At: time.Now().UnixMilli(), Caches: []api.CacheUse{}}))
			}
		}
	}
}
