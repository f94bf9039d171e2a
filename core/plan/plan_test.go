package plan

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

func pipeline(after map[string][]string) *definition.Pipeline {
	p := &definition.Pipeline{Job: map[string]*definition.Job{}}
	for name, a := range after {
		p.Job[name] = &definition.Job{Name: name, After: a}
	}
	return p
}

func TestMatching(t *testing.T) {
	p := &definition.Pipeline{Trigger: definition.Trigger{
		Push: &definition.Push{Branches: []string{"main", "work/**"}},
		Tag:  &definition.Tag{Names: []string{"v*"}},
	}}
	cases := []struct {
		ref  string
		want bool
	}{
		{"refs/heads/main", true},
		{"refs/heads/work/a/b", true},
		{"refs/heads/other", false},
		{"refs/heads/work/ä $(touch x); \"'", true},
		{"refs/tags/v1.2", true},
		{"refs/tags/nightly", false},
		{"refs/notes/commits", false},
	}
	for _, c := range cases {
		e, ok := Of(RefUpdate{Ref: c.ref, Before: NoCommit, After: "1111111111111111111111111111111111111111"})
		assert.Equal(t, c.want, ok && Matches(p, e), c.ref)
	}
	_, ok := Of(RefUpdate{Ref: "refs/heads/main", After: NoCommit})
	assert.False(t, ok, "a deleted branch starts nothing")
	assert.True(t, Matches(&definition.Pipeline{}, Event{Trigger: ByPerson}))
	assert.False(t, Matches(&definition.Pipeline{}, Event{Trigger: OnPush, Branch: "main"}))
}

func TestSettleSkipsWhatAFailureMakesPointless(t *testing.T) {
	jobs := Jobs(pipeline(map[string][]string{"core": nil, "docs": nil, "android": {"core"}, "store": {"android", "docs"}}))
	find := func(name string) *Job {
		for i := range jobs {
			if jobs[i].Name == name {
				return &jobs[i]
			}
		}
		return nil
	}
	assert.Equal(t, state.Queued, Outcome(jobs))
	find("docs").State = state.Passed
	assert.Equal(t, state.Running, Outcome(jobs))
	find("core").State = state.Failed
	changed := Settle(jobs)
	require.Len(t, changed, 2)
	assert.Equal(t, state.Skipped, find("android").State)
	assert.Equal(t, "core failed", find("android").Reason)
	assert.Equal(t, "android was skipped", find("store").Reason)
	assert.Equal(t, state.Failed, Outcome(jobs))
}

// Any accepted graph, whatever the jobs come to, ends with every job run or skipped with a reason.
func TestEveryGraphSettles(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	ends := []state.State{state.Passed, state.Passed, state.Passed, state.Failed, state.Cancelled, state.TimedOut}
	for range 300 {
		after := map[string][]string{}
		n := 1 + rng.IntN(30)
		for i := range n {
			name := fmt.Sprintf("j%02d", i)
			after[name] = nil
			for k := range i {
				if rng.IntN(5) == 0 {
					after[name] = append(after[name], fmt.Sprintf("j%02d", k))
				}
			}
		}
		jobs := Jobs(pipeline(after))
		ran := 0
		for !Outcome(jobs).Over() {
			var ready []*Job
			for i := range jobs {
				if jobs[i].State == state.Queued && jobs[i].Ready {
					ready = append(ready, &jobs[i])
				}
			}
			require.NotEmpty(t, ready, "stuck: %+v", jobs)
			ready[rng.IntN(len(ready))].State = ends[rng.IntN(len(ends))]
			ran++
			Settle(jobs)
		}
		for _, j := range jobs {
			require.True(t, j.State.Over())
			if j.State == state.Skipped {
				require.NotEmpty(t, j.Reason)
				ran++
			}
		}
		require.Equal(t, n, ran)
	}
}
