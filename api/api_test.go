package api

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/state"
)

func TestWhatIsOnlyReported(t *testing.T) {
	step := func(name string, s state.State, advisory bool) Step {
		return Step{Name: name, State: s, Advisory: advisory, Reason: "exit code 3"}
	}
	assert.Equal(t, []Reported{{"app", "lint", "exit code 3"}, {"style", "", "timed out"}}, ReportedOf([]Job{
		{Name: "app", State: state.Passed, Steps: []Step{step("lint", state.Failed, true), step("spell", state.Passed, true)}},
		{Name: "core", State: state.Failed, Steps: []Step{step("test", state.Failed, false)}},
		{Name: "style", State: state.TimedOut, Advisory: true, Reason: "timed out", Steps: []Step{step("slow", state.TimedOut, true)}},
	}))
}
