package plan

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

func find(jobs []Job, name string) *Job {
	for i := range jobs {
		if jobs[i].Name == name {
			return &jobs[i]
		}
	}
	return nil
}

func settled(t *testing.T, text string, facts condition.Facts) []Job {
	t.Helper()
	p, found := definition.Parse("piston/p.toml", []byte(text), nil)
	require.NotNil(t, p, "%v", found)
	jobs := Jobs(p)
	Settle(jobs, facts)
	return jobs
}

func TestSettleSkipsWhatAFailureMakesPointless(t *testing.T) {
	jobs := Jobs(pipeline(map[string][]string{"core": nil, "docs": nil, "android": {"core"}, "store": {"android", "docs"}}))
	Settle(jobs, condition.Facts{})
	assert.True(t, find(jobs, "core").Ready)
	assert.False(t, find(jobs, "android").Ready)
	assert.Equal(t, state.Queued, Outcome(jobs))
	find(jobs, "docs").State = state.Passed
	assert.Equal(t, state.Running, Outcome(jobs))
	find(jobs, "core").State = state.Failed
	changed := Settle(jobs, condition.Facts{})
	require.Len(t, changed, 2)
	assert.Equal(t, state.Skipped, find(jobs, "android").State)
	assert.Equal(t, "core failed", find(jobs, "android").Reason)
	assert.Equal(t, "android was skipped", find(jobs, "store").Reason)
	assert.Equal(t, state.Failed, Outcome(jobs))
}

const always = `
[[job.core.step]]
script = "x"
[job.lint]
advisory = true
[[job.lint.step]]
script = "x"
[job.android]
after = ["core", "lint"]
[[job.android.step]]
script = "x"
[job.tell]
after = ["core", "android"]
always = true
when = 'job.core == "failed" || job.android == "failed"'
[[job.tell.step]]
script = "x"
`

func TestAJobThatRunsAlthoughAnotherFailed(t *testing.T) {
	jobs := settled(t, always, condition.Facts{})
	find(jobs, "core").State = state.Failed
	find(jobs, "lint").State = state.Passed
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Skipped, find(jobs, "android").State)
	assert.True(t, find(jobs, "tell").Ready)
	find(jobs, "tell").State = state.Passed
	assert.Equal(t, state.Failed, Outcome(jobs), "what runs afterwards does not make it good")

	jobs = settled(t, always, condition.Facts{})
	for _, name := range []string{"core", "lint"} {
		find(jobs, name).State = state.Passed
	}
	Settle(jobs, condition.Facts{})
	find(jobs, "android").State = state.Passed
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Skipped, find(jobs, "tell").State)
	assert.Contains(t, find(jobs, "tell").Reason, "condition is not met")
	assert.Equal(t, state.Passed, Outcome(jobs))
}

func TestAnAdvisoryJobChangesNothingElse(t *testing.T) {
	jobs := settled(t, always, condition.Facts{})
	find(jobs, "lint").State = state.Failed
	find(jobs, "core").State = state.Passed
	Settle(jobs, condition.Facts{})
	assert.True(t, find(jobs, "android").Ready)
	find(jobs, "android").State = state.Passed
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Passed, Outcome(jobs))
}

func TestConditionsOfJobsAndSteps(t *testing.T) {
	text := `
[job.ios]
when = 'changed.within("ios/**")'
[[job.ios.step]]
script = "x"
[job.android]
variants.over = { ABI = ["arm64-v8a", "x86_64"] }
when = 'variant.ABI != "x86_64" || branch == "main"'
[[job.android.step]]
script = "x"
[[job.android.step]]
script = "publish"
when = 'branch == "main"'
`
	jobs := settled(t, text, condition.Facts{Branch: "work/a", Changed: []string{"core/a.c"}})
	assert.Equal(t, state.Skipped, find(jobs, "ios").State)
	assert.Equal(t, state.Skipped, find(jobs, "android+x86_64").State)
	arm := find(jobs, "android+arm64-v8a")
	assert.True(t, arm.Ready)
	assert.Empty(t, arm.Definition.Step[0].Skip)
	assert.Contains(t, arm.Definition.Step[1].Skip, "not met")
	assert.Equal(t, map[string]string{"ABI": "arm64-v8a"}, arm.Definition.Env)
}

func TestAConditionThatCannotBeAnsweredFailsItsJob(t *testing.T) {
	jobs := settled(t, "[input.n]\n[job.a]\nwhen = 'input.n > 3'\n[[job.a.step]]\nscript = \"x\"\n", condition.Facts{Input: map[string]any{"n": "many"}})
	assert.Equal(t, state.Failed, find(jobs, "a").State)
	assert.Contains(t, find(jobs, "a").Reason, "cannot be answered")
	assert.Equal(t, state.Failed, Outcome(jobs))
}

func TestRetryByCause(t *testing.T) {
	d := &definition.Job{Retry: &definition.Retry{Times: 2, ExitCodes: []int{75}, Steps: []string{"fetch"}, Wait: "10s"}}
	code := func(n int) *int { return &n }
	wait, again := Retry(d, "test", code(75), 1)
	assert.True(t, again)
	assert.Equal(t, 10*time.Second, wait)
	wait, again = Retry(d, "fetch", code(1), 2)
	assert.True(t, again)
	assert.Equal(t, 20*time.Second, wait)
	long := &definition.Job{Retry: &definition.Retry{Times: 10, ExitCodes: []int{75}, Wait: "40m"}}
	wait, again = Retry(long, "test", code(75), 9)
	assert.True(t, again)
	assert.Equal(t, time.Hour, wait, "the doubling ends")
	_, again = Retry(d, "fetch", nil, 3)
	assert.False(t, again, "two further tries are all")
	_, again = Retry(d, "test", code(1), 1)
	assert.False(t, again)
	_, again = Retry(&definition.Job{}, "test", code(75), 1)
	assert.False(t, again)
}

func TestAgainKeepsWhatPassed(t *testing.T) {
	jobs := settled(t, always, condition.Facts{})
	find(jobs, "lint").State = state.Passed
	find(jobs, "core").State = state.Failed
	Settle(jobs, condition.Facts{})
	find(jobs, "tell").State = state.Passed
	reset := Again(jobs)
	require.Len(t, reset, 2)
	Settle(jobs, condition.Facts{})
	assert.True(t, find(jobs, "core").Ready)
	assert.False(t, find(jobs, "android").Ready)
	assert.Equal(t, state.Passed, find(jobs, "lint").State)
}

// Any accepted graph, whatever the jobs come to, ends with every job run or skipped with a reason.
func TestEveryGraphSettles(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	ends := []state.State{state.Passed, state.Passed, state.Passed, state.Failed, state.Cancelled, state.TimedOut}
	whens := []string{"", "", "", `branch == "main"`, `branch != "main"`, `job.size() > 2`}
	for range 300 {
		p := &definition.Pipeline{Job: map[string]*definition.Job{}}
		n := 1 + rng.IntN(30)
		for i := range n {
			name := fmt.Sprintf("j%02d", i)
			d := &definition.Job{Name: name, When: whens[rng.IntN(len(whens))], Always: rng.IntN(6) == 0, Advisory: rng.IntN(6) == 0}
			for k := range i {
				if rng.IntN(5) == 0 {
					d.After = append(d.After, fmt.Sprintf("j%02d", k))
				}
			}
			p.Job[name] = d
		}
		jobs, facts := Jobs(p), condition.Facts{Branch: "main"}
		Settle(jobs, facts)
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
			Settle(jobs, facts)
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

// FuzzEveryAcceptedPipelineSettles: whatever a file says, when it is accepted every job of it runs or is skipped with
// a reason, however the jobs end.
func FuzzEveryAcceptedPipelineSettles(f *testing.F) {
	f.Add([]byte(always), uint64(1))
	f.Add([]byte("[job.a]\nvariants.over = { ABI = [\"x\", \"y\"] }\nwhen = 'variant.ABI != \"x\" || branch == \"main\"'\n[[job.a.step]]\nscript = \"x\"\n[job.b]\nafter = [\"a\"]\nalways = true\n[[job.b.step]]\nscript = \"x\"\nwhen = 'job.a == \"failed\"'\n"), uint64(7))
	f.Fuzz(func(t *testing.T, text []byte, seed uint64) {
		p, _ := definition.Parse("piston/f.toml", text, nil)
		if p == nil {
			return
		}
		rng := rand.New(rand.NewPCG(seed, 1))
		ends := []state.State{state.Passed, state.Failed, state.TimedOut, state.Cancelled}
		jobs, facts := Jobs(p), condition.Facts{Branch: "main", Trigger: "push", Trusted: seed%2 == 0}
		Settle(jobs, facts)
		for !Outcome(jobs).Over() {
			ready := 0
			for i := range jobs {
				if jobs[i].State == state.Queued && jobs[i].Ready {
					jobs[i].State = ends[rng.IntN(len(ends))]
					ready++
				}
			}
			if ready == 0 {
				t.Fatalf("stuck: %+v", jobs)
			}
			Settle(jobs, facts)
		}
		for _, j := range jobs {
			if j.State == state.Skipped && j.Reason == "" {
				t.Fatalf("%s is skipped for no reason", j.Name)
			}
		}
	})
}

func TestStepsThatMayRun(t *testing.T) {
	d := &definition.Job{When: `branch == "main"`, Variant: map[string]string{"KIND": "debug"}}
	on := condition.Facts{Branch: "main", Trusted: true}
	for when, want := range map[string]bool{
		"":                           true,
		"trusted":                    true,
		"!trusted":                   false,
		`variant.KIND == "release"`:  false,
		`job.core == "failed"`:       true, // not known before anything has run
		`input.none > 3`:             true, // cannot be answered: it is asked again when its time has come
		`changed.within("core/**")`:  false,
		`trusted && branch != "dev"`: true,
	} {
		assert.Equal(t, want, MayRun(d, &definition.Step{When: when}, on), when)
	}
	assert.False(t, MayRun(d, &definition.Step{}, condition.Facts{Branch: "other"}), "the job itself does not")
}

// What is read once serves many runs: answers are written into copies.
func TestAnswersAreNotSharedBetweenRuns(t *testing.T) {
	p, found := definition.Parse("piston/p.toml", []byte("[[job.a.step]]\nscript = \"x\"\nwhen = 'branch == \"main\"'\n[[job.a.step]]\nscript = \"y\"\n"), nil)
	require.NotNil(t, p, "%v", found)
	other, main := Jobs(p), Jobs(p)
	Settle(other, condition.Facts{Branch: "work/a"})
	Settle(main, condition.Facts{Branch: "main"})
	assert.NotEmpty(t, other[0].Definition.Step[0].Skip)
	assert.Empty(t, main[0].Definition.Step[0].Skip)
	assert.Empty(t, p.Job["a"].Step[0].Skip)
	assert.Same(t, p.Job["a"].Step[1], main[0].Definition.Step[1], "what asks nothing needs no copy")
}

func TestARunWhoseJobsAreOnlySkippedHasNotBegun(t *testing.T) {
	jobs := settled(t, "[job.a]\nwhen = 'tag != \"\"'\n[[job.a.step]]\nscript = \"x\"\n[job.b]\n[[job.b.step]]\nscript = \"x\"\n", condition.Facts{})
	assert.Equal(t, state.Skipped, find(jobs, "a").State)
	assert.Equal(t, state.Queued, Outcome(jobs))
	find(jobs, "b").State = state.Running
	assert.Equal(t, state.Running, Outcome(jobs))
}

func TestNothingGoesOnBehindAnAdvisoryJobThatWasSkipped(t *testing.T) {
	jobs := settled(t, "[[job.core.step]]\nscript = \"x\"\n[job.lint]\nafter = [\"core\"]\nadvisory = true\n[[job.lint.step]]\nscript = \"x\"\n"+
		"[job.app]\nafter = [\"lint\"]\n[[job.app.step]]\nscript = \"x\"\n", condition.Facts{})
	find(jobs, "core").State = state.Failed
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Skipped, find(jobs, "lint").State)
	assert.Equal(t, state.Skipped, find(jobs, "app").State, "core, which it is built upon, has failed")
}

func TestWhatIsStartedAgainWaitsAnew(t *testing.T) {
	jobs := []Job{{Name: "a", State: state.Passed, Reason: "kept", Ready: true}, {Name: "b", State: state.Failed, Reason: "x", Ready: true},
		{Name: "c", State: state.Skipped, Reason: "b failed"}, {Name: "d", State: state.Cancelled, Reason: "stopped", Ready: true}}
	reset := Again(jobs)
	assert.Len(t, reset, 3)
	for _, j := range reset {
		assert.Equal(t, state.Queued, j.State, j.Name)
		assert.Empty(t, j.Reason, j.Name)
		assert.False(t, j.Ready, j.Name)
	}
	assert.Equal(t, "kept", jobs[0].Reason)
}

func TestAGateWaitsForPeopleAndItsRunWithIt(t *testing.T) {
	p, found := definition.Parse("piston/trunk.toml", []byte(`[[job.a.step]]
script = "x"
[[job.side.step]]
script = "x"
[job.go]
after = ["a"]
ask = { who = ["keeper"], question = "Go on?" }
[job.b]
after = ["go"]
[[job.b.step]]
script = "x"
`), nil)
	require.Empty(t, found)
	jobs := Jobs(p)
	at := func(name string) *Job {
		for i := range jobs {
			if jobs[i].Name == name {
				return &jobs[i]
			}
		}
		return nil
	}
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Queued, at("go").State)
	at("a").State, at("side").State = state.Passed, state.Running
	Settle(jobs, condition.Facts{})
	assert.Equal(t, state.Waiting, at("go").State)
	assert.Empty(t, Settle(jobs, condition.Facts{}), "it is asked once")
	assert.Equal(t, state.Running, Outcome(jobs), "something else is at work")
	at("side").State = state.Passed
	assert.Equal(t, state.Waiting, Outcome(jobs))
	assert.False(t, at("b").Ready)
	at("go").State = state.Passed
	Settle(jobs, condition.Facts{})
	assert.True(t, at("b").Ready)
	assert.Equal(t, state.Running, Outcome(jobs))
}
