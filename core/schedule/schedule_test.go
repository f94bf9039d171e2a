package schedule

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/record"
)

var now = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

func linux(n int) (list []Runner) {
	for i := range n {
		list = append(list, Runner{Name: fmt.Sprintf("r%d", i), Labels: []string{"linux"}, Tools: map[string]string{"clang": "14.0.6"}})
	}
	return list
}

// queue makes one of jobs, each a run of its own unless it names one.
func queue(jobs ...Job) *Queue {
	q := &Queue{Now: now, Projects: map[record.ProjectID]Project{}}
	seen := map[record.RunID]bool{}
	for i, j := range jobs {
		j.ID = record.AttemptID(i + 1)
		if j.Run == 0 {
			j.Run = record.RunID(j.ID)
		}
		if j.Number == 0 {
			j.Number = record.RunNumber(j.Run)
		}
		if j.Queued.IsZero() {
			j.Queued = now.Add(time.Duration(i) * time.Second)
		}
		if j.Labels == nil {
			j.Labels = []string{"linux"}
		}
		if !seen[j.Run] {
			q.Runs = append(q.Runs, Run{ID: j.Run, Number: j.Number, Project: j.Project, Pipeline: j.Pipeline, Group: j.Group})
		}
		seen[j.Run] = true
		q.Jobs = append(q.Jobs, j)
	}
	return q
}

func ids(given []Assignment) (list []record.AttemptID) {
	for _, g := range given {
		list = append(list, g.Job.ID)
	}
	return list
}

func TestPriorityThenFairnessThenAge(t *testing.T) {
	q := queue(Job{Project: 1}, Job{Project: 1}, Job{Project: 1}, Job{Project: 2}, Job{Project: 2, Priority: 5})
	assert.Equal(t, []record.AttemptID{5, 1, 2, 4, 3}, ids(q.Assign(linux(5))),
		"the urgent one; then the project with nothing at work; then those with one each, by age")
	q.Projects[1] = Project{Working: 9}
	assert.Equal(t, []record.AttemptID{5, 4, 1}, ids(q.Assign(linux(3))))
}

func TestLabelsAndTools(t *testing.T) {
	q := queue(Job{Labels: []string{"macos"}}, Job{Tools: map[string]string{"clang": ">=16"}}, Job{Tools: map[string]string{"clang": ">=14"}})
	assert.Equal(t, []record.AttemptID{3}, ids(q.Assign(linux(3))))
	waits := q.Waiting(linux(1), linux(1))
	assert.Equal(t, "needs label macos: no runner has it", waits[0].Why)
	assert.Equal(t, "needs tool clang >=16: no runner has it (r0 has 14.0.6)", waits[1].Why)
	assert.Equal(t, "all runners that could do it are busy", waits[2].Why)
	assert.Equal(t, "only runner r0 could do it, and it is not there", q.Waiting(nil, linux(1))[2].Why)
	assert.Contains(t, q.Waiting(nil, nil)[0].Why, "no runner has ever asked")
	mac := Runner{Name: "m", Labels: []string{"macos"}}
	both := queue(Job{Labels: []string{"linux", "macos"}})
	assert.Equal(t, "no runner has all of label linux, label macos", both.Waiting(nil, append(linux(1), mac))[0].Why)
}

func TestAProjectsLimits(t *testing.T) {
	q := queue(Job{Project: 1}, Job{Project: 1}, Job{Project: 2}, Job{Project: 3})
	q.Projects = map[record.ProjectID]Project{1: {AtOnce: 2, Working: 1}, 2: {Held: "moving house"}}
	assert.Equal(t, []record.AttemptID{4, 1}, ids(q.Assign(linux(4))))
	why := map[record.AttemptID]string{}
	q.Projects[1] = Project{AtOnce: 2, Working: 2}
	for _, w := range q.Waiting(linux(1), linux(1)) {
		why[w.Job.ID] = w.Why
	}
	assert.Contains(t, why[1], "all 2 jobs at work")
	assert.Equal(t, "the project is held: moving house", why[3])
}

func TestAGroupNeverOverlaps(t *testing.T) {
	q := queue(Job{Run: 41, Group: "release"}, Job{Run: 42, Group: "release"}, Job{Run: 43, Group: "release"}, Job{Run: 41, Group: "release"})
	assert.Equal(t, []record.AttemptID{1, 4}, ids(q.Assign(linux(4))), "all jobs of the run that is first, none of the others")
	assert.Equal(t, "third of 3 behind run 41 in group release", q.Waiting(linux(1), linux(1))[2].Why)
	q.Runs[1].Begun = true // 42 was handed out before a crash: it keeps its place
	assert.Equal(t, []record.AttemptID{2}, ids(q.Assign(linux(4))))
}

func TestRunsOfAPipelineAtOnce(t *testing.T) {
	line := func(run record.RunID) Job { return Job{Run: run, Pipeline: "trunk", AtOnce: 2} }
	q := queue(line(1), line(2), line(3), line(2))
	assert.Equal(t, []record.AttemptID{1, 2, 4}, ids(q.Assign(linux(4))))
	assert.Contains(t, q.Waiting(linux(1), linux(1))[2].Why, "third of 3 runs of trunk")
}

func TestAPauseBetweenTries(t *testing.T) {
	q := queue(Job{After: now.Add(9 * time.Second)}, Job{After: now.Add(-time.Second)})
	assert.Equal(t, []record.AttemptID{2}, ids(q.Assign(linux(2))))
	assert.Equal(t, "is tried again in 9s", q.Waiting(linux(1), linux(1))[0].Why)
}

// However runners come and jobs end, every job is given once, no limit is overstepped and nothing is left.
func TestNoJobStarvesAndNoneIsGivenTwice(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 30 {
		var jobs []Job
		for i := range 120 {
			run := record.RunID(1 + i/3)
			j := Job{Run: run, Project: record.ProjectID(1 + run%3), Pipeline: fmt.Sprint("p", run%4), Priority: int(run % 2)}
			if run%4 == 0 {
				j.Group = "g"
			}
			if run%4 == 1 {
				j.AtOnce = 2
			}
			jobs = append(jobs, j)
		}
		q := queue(jobs...)
		q.Projects = map[record.ProjectID]Project{1: {AtOnce: 3}, 2: {}, 3: {}}
		left := map[record.RunID]int{} // jobs of a run that are not over
		for _, j := range q.Jobs {
			left[j.Run]++
		}
		given, working := map[record.AttemptID]bool{}, []Job(nil)
		for len(given) < 120 {
			got := q.Assign(linux(1 + rng.IntN(8)))
			require.True(t, len(got) > 0 || len(working) > 0, "stuck with %d given", len(given))
			for _, g := range got {
				require.False(t, given[g.Job.ID], "job %d twice", g.Job.ID)
				given[g.Job.ID] = true
				working = append(working, g.Job)
				q.Jobs = removeJob(q.Jobs, g.Job.ID)
			}
			check(t, working)
			for len(working) > 0 && rng.IntN(3) > 0 {
				n := rng.IntN(len(working))
				left[working[n].Run]--
				working = append(working[:n:n], working[n+1:]...)
			}
			retell(q, working, given, left)
		}
	}
}

func removeJob(list []Job, id record.AttemptID) (rest []Job) {
	for _, j := range list {
		if j.ID != id {
			rest = append(rest, j)
		}
	}
	return rest
}

func check(t *testing.T, working []Job) {
	t.Helper()
	perProject, groups := map[record.ProjectID]int{}, map[string]record.RunID{}
	lines := map[string]map[record.RunID]bool{}
	for _, j := range working {
		perProject[j.Project]++
		if j.Group != "" {
			key := fmt.Sprint(j.Project, j.Group)
			require.True(t, groups[key] == 0 || groups[key] == j.Run, "group held twice")
			groups[key] = j.Run
		}
		if j.AtOnce > 0 {
			key := fmt.Sprint(j.Project, j.Pipeline)
			if lines[key] == nil {
				lines[key] = map[record.RunID]bool{}
			}
			lines[key][j.Run] = true
			require.LessOrEqual(t, len(lines[key]), j.AtOnce)
		}
	}
	require.LessOrEqual(t, perProject[1], 3)
}

// retell brings the queue's runs and counts to where the jobs at work stand.
func retell(q *Queue, working []Job, given map[record.AttemptID]bool, left map[record.RunID]int) {
	count := map[record.ProjectID]int{}
	for _, j := range working {
		count[j.Project]++
	}
	for id, p := range q.Projects {
		p.Working = count[id]
		q.Projects[id] = p
	}
	var runs []Run
	for _, r := range q.Runs {
		if left[r.ID] > 0 {
			for i := range 3 {
				r.Begun = r.Begun || given[record.AttemptID((int(r.ID)-1)*3+i+1)]
			}
			runs = append(runs, r)
		}
	}
	q.Runs = runs
}

func TestARunWaitsForThoseThatHaveBegunBehindIt(t *testing.T) {
	q := queue(Job{Run: 1, Pipeline: "p", AtOnce: 2}, Job{Run: 2, Pipeline: "p", AtOnce: 2}, Job{Run: 3, Pipeline: "p", AtOnce: 2})
	for i := range q.Runs {
		q.Runs[i].Begun = q.Runs[i].ID > 1 // two are at work already, and were behind
	}
	q.Jobs = q.Jobs[:1]
	assert.Empty(t, q.Assign(linux(2)))
	q.Runs[2].Begun = false
	assert.Equal(t, []record.AttemptID{1}, ids(q.Assign(linux(2))))
}

func TestTheOrderOfTheListIsNoReason(t *testing.T) {
	q := queue(Job{}, Job{}, Job{Priority: 1}, Job{})
	q.Jobs[0], q.Jobs[1], q.Jobs[3] = q.Jobs[3], q.Jobs[0], q.Jobs[1]
	assert.Equal(t, []record.AttemptID{3, 1, 2, 4}, ids(q.Assign(linux(4))))
}

func TestARunnerThatCannotTellAVersionIsNoMatch(t *testing.T) {
	r := Runner{Tools: map[string]string{"clang": "14.0.6", "odd": ""}}
	for tools, wanted := range map[[2]string]bool{{"clang", "14"}: true, {"clang", ">=15"}: false, {"clang", "*"}: true,
		{"clang", "no version"}: false, {"git", "*"}: false, {"odd", "*"}: true, {"odd", "1"}: false} {
		_, can := r.Can(nil, map[string]string{tools[0]: tools[1]})
		assert.Equal(t, wanted, can, tools)
	}
}

func TestARunnerIsAskedForWhatItHasNotLookedFor(t *testing.T) {
	q := queue(Job{Project: 1, Tools: map[string]string{"clang": ">=14", "gradle": "*"}},
		Job{Project: 1, Tools: map[string]string{"gradle": "8", "jarsigner": "*"}},
		Job{Project: 2, Tools: map[string]string{"swift": "*"}},
		Job{Project: 1, Labels: []string{"macos"}, Tools: map[string]string{"xcode": "*"}})
	r := Runner{Name: "r", Labels: []string{"linux"}, Tools: map[string]string{"clang": "14"}, Project: 1}
	assert.Equal(t, []string{"gradle", "jarsigner"}, q.Unasked(r), "each once, and of jobs that it could do")
	r.Project, r.Lacks = 0, []string{"gradle"}
	assert.Equal(t, []string{"jarsigner", "swift"}, q.Unasked(r), "not what it has looked for in vain")
	for i := len(r.Lacks); i < mostLacks; i++ {
		r.Lacks = append(r.Lacks, fmt.Sprint("tool", i))
	}
	assert.Empty(t, q.Unasked(r), "names that pipelines make up come to an end")
	many := map[string]string{}
	for i := range 60 {
		many[fmt.Sprintf("t%02d", i)] = "*"
	}
	assert.Len(t, queue(Job{Tools: many}).Unasked(Runner{Labels: []string{"linux"}}), 50)
}

func TestWhyAJobWaits(t *testing.T) {
	there := Runner{Name: "here", Labels: []string{"linux"}, Tools: map[string]string{"clang": "14.0.6"}, There: true}
	away := Runner{Name: "attic", Labels: []string{"linux", "arm64"}}
	held := Runner{Name: "cellar", Labels: []string{"linux", "gpu"}, Held: "a new disk"}
	mute := Runner{Name: "mute", Labels: []string{"linux"}, Tools: map[string]string{"gradle": ""}}
	why := func(q *Queue, runners ...Runner) string {
		t.Helper()
		return q.Waiting([]Runner{there}, append(runners, there))[0].Why
	}
	assert.Equal(t, "all runners that could do it are busy", why(queue(Job{})))
	q := queue(Job{})
	q.Held = "the disk is full"
	assert.Equal(t, "the disk is full", why(q))
	assert.Contains(t, why(queue(Job{After: now.Add(90 * time.Second)})), "is tried again in 1m30s")
	assert.Contains(t, why(queue(Job{Labels: []string{"arm64"}}), away), "only runner attic could do it, and it is not there")
	assert.Contains(t, why(queue(Job{Labels: []string{"gpu"}}), held), "runner cellar could do it, and it is held: a new disk")
	assert.Contains(t, why(queue(Job{Labels: []string{"macos"}})), "needs label macos: no runner has it")
	assert.Contains(t, why(queue(Job{Tools: map[string]string{"gradle": "8"}})), "all runners that could do it are busy",
		"it is about to be asked")
	looked := there
	looked.Lacks = []string{"gradle"}
	lacks := func(j Job, known ...Runner) string {
		t.Helper()
		return queue(j).Waiting([]Runner{looked}, append([]Runner{looked}, known...))[0].Why
	}
	assert.Equal(t, "needs tool gradle 8: no runner has it", lacks(Job{Tools: map[string]string{"gradle": "8"}}))
	assert.Contains(t, lacks(Job{Tools: map[string]string{"gradle": "8"}}, mute), "mute has it and cannot tell its version")
	assert.Equal(t, "needs tool gradle: no runner has it", lacks(Job{Tools: map[string]string{"gradle": "*"}}))
	assert.Contains(t, lacks(Job{Tools: map[string]string{"clang": ">=15"}}), "needs tool clang >=15: no runner has it (here has 14.0.6)")
	assert.Contains(t, lacks(Job{Labels: []string{"arm64"}, Tools: map[string]string{"clang": "*"}}, away),
		"no runner has all of label arm64, tool clang")
	assert.Contains(t, queue(Job{}).Waiting(nil, nil)[0].Why, "no runner has ever asked")
	group := queue(Job{Run: 1, Group: "g"}, Job{Run: 2, Group: "g"}, Job{Run: 3, Group: "g"})
	waits := group.Waiting([]Runner{there}, []Runner{there})
	assert.Equal(t, "third of 3 behind run 1 in group g", waits[2].Why)
	assert.Equal(t, 3, waits[2].Place)
	var line []Job
	for i := range 12 {
		line = append(line, Job{Run: record.RunID(i + 1), Pipeline: "p", AtOnce: 2})
	}
	waits = queue(line...).Waiting([]Runner{there}, []Runner{there})
	assert.Equal(t, "third of 12 runs of p, of which 2 may be at work at once; run 1 is", waits[2].Why)
	assert.Contains(t, waits[11].Why, "number 12 of 12")
}

// A run that is last holds nobody up: neither in its group nor in the line of its pipeline, however old it is; but once
// it has begun it is not overlapped.
func TestWhatIsLastHoldsNobodyUp(t *testing.T) {
	for what, line := range map[string]func(run record.RunID) Job{
		"group":   func(run record.RunID) Job { return Job{Run: run, Group: "release"} },
		"at once": func(run record.RunID) Job { return Job{Run: run, Pipeline: "trunk", AtOnce: 1} },
	} {
		q := queue(line(41), line(42), line(43))
		q.Runs[0].Last = true
		assert.Equal(t, []record.AttemptID{2}, ids(q.Assign(linux(3))), what)
		assert.Contains(t, q.Waiting(linux(1), linux(1))[0].Why, "third of 3", what)
		q.Runs[0].Begun = true
		assert.Equal(t, []record.AttemptID{1}, ids(q.Assign(linux(3))), what)
		q.Runs[0].Begun, q.Runs[1].Last, q.Runs[2].Last = false, true, true
		assert.Equal(t, []record.AttemptID{1}, ids(q.Assign(linux(3))), "among themselves the oldest is first: %s", what)
	}
}
