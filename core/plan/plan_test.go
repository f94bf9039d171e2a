package plan

import (
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

const someCommit = "1111111111111111111111111111111111111111"

func matches(t *testing.T, p *definition.Pipeline, e Event, changed ...string) bool {
	t.Helper()
	ok, err := Matches(p, e, func() ([]string, bool, error) { return changed, changed == nil, nil })
	require.NoError(t, err)
	return ok
}

func TestMatching(t *testing.T) {
	p := &definition.Pipeline{Trigger: definition.Trigger{
		Push:     &definition.Push{Branches: []string{"main", "work/**"}, ExceptBranches: []string{"work/draft/*"}},
		Tag:      &definition.Tag{Names: []string{"v*"}, ExceptNames: []string{"*-draft"}},
		Proposal: &definition.Proposal{Into: []string{"main", "release/*"}},
	}}
	cases := []struct {
		ref  string
		want bool
	}{
		{"refs/heads/main", true},
		{"refs/heads/work/a/b", true},
		{"refs/heads/work/draft/x", false},
		{"refs/heads/other", false},
		{"refs/heads/work/ä $(touch x); \"'", true},
		{"refs/tags/v1.2", true},
		{"refs/tags/v1.2-draft", false},
		{"refs/tags/nightly", false},
		{"refs/notes/commits", false},
		{"refs/proposals/main/chart", true},
		{"refs/proposals/release/2/chart", true},
		{"refs/proposals/work/chart", false},
		{"refs/proposals/chart", false},
	}
	for _, c := range cases {
		e, ok := Of(RefUpdate{Ref: c.ref, Before: NoCommit, After: someCommit})
		assert.Equal(t, c.want, ok && matches(t, p, e), c.ref)
	}
	_, ok := Of(RefUpdate{Ref: "refs/heads/main", After: NoCommit})
	assert.False(t, ok, "a deleted branch starts nothing")
	assert.True(t, matches(t, &definition.Pipeline{}, Event{Trigger: ByPerson}))
	assert.False(t, matches(t, &definition.Pipeline{}, Event{Trigger: OnPush, Branch: "main"}))
}

func TestMatchingByPaths(t *testing.T) {
	p := &definition.Pipeline{Trigger: definition.Trigger{Push: &definition.Push{Paths: []string{"core/**", "Makefile"}, ExceptPaths: []string{"**/*.md"}}}}
	e := Event{Trigger: OnPush, Branch: "main"}
	assert.True(t, matches(t, p, e, "docs/a", "core/tide.c"))
	assert.False(t, matches(t, p, e, "docs/a", "core/notes.md"))
	assert.True(t, matches(t, p, e), "with nothing known of before, everything counts")
	only := &definition.Pipeline{Trigger: definition.Trigger{Push: &definition.Push{ExceptPaths: []string{"docs/**"}}}}
	assert.False(t, matches(t, only, e, "docs/a"))
	assert.True(t, matches(t, only, e, "docs/a", "b"))
	asked := false
	_, err := Matches(&definition.Pipeline{Trigger: definition.Trigger{Push: &definition.Push{}}}, e, func() ([]string, bool, error) { asked = true; return nil, true, nil })
	require.NoError(t, err)
	assert.False(t, asked, "a diff is made only when an answer depends on it")
}

func TestMatchingOtherEvents(t *testing.T) {
	p := &definition.Pipeline{Name: "store", Trigger: definition.Trigger{
		Schedule: map[string]*definition.Schedule{"night": {}},
		Pipeline: map[string]*definition.Ended{"trunk": {Branches: []string{"main"}}, "release": {States: []string{"failed"}}}}}
	assert.True(t, matches(t, p, Event{Trigger: OnSchedule, Schedule: "night", Pipeline: "store"}))
	assert.False(t, matches(t, p, Event{Trigger: OnSchedule, Schedule: "night", Pipeline: "other"}))
	assert.False(t, matches(t, p, Event{Trigger: OnSchedule, Schedule: "noon", Pipeline: "store"}))
	assert.True(t, matches(t, p, Event{Trigger: OnPipeline, Ended: "trunk", EndState: state.Passed, Branch: "main"}))
	assert.False(t, matches(t, p, Event{Trigger: OnPipeline, Ended: "trunk", EndState: state.Failed, Branch: "main"}))
	assert.False(t, matches(t, p, Event{Trigger: OnPipeline, Ended: "trunk", EndState: state.Passed, Branch: "work/x"}))
	assert.True(t, matches(t, p, Event{Trigger: OnPipeline, Ended: "release", EndState: state.Failed}))
	assert.False(t, matches(t, p, Event{Trigger: OnPipeline, Ended: "unknown", EndState: state.Failed}))
}

func TestACommitCanAskForNoRun(t *testing.T) {
	assert.True(t, AsksForNoRun("Correct a typo\n\nPiston-Run: no\n"))
	assert.True(t, AsksForNoRun("Correct a typo\r\n\r\nMore words.\r\n\r\nSigned-off-by: W\r\npiston-run: skip\r\n"))
	assert.False(t, AsksForNoRun("Piston-Run: no"), "a subject is no trailer")
	assert.False(t, AsksForNoRun("Explain trailers\n\nPiston-Run: no\n\nis what one writes."))
	assert.False(t, AsksForNoRun("Do it\n\nPiston-Run: now\n"))
}
