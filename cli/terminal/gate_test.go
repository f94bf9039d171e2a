package terminal

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
)

func TestARunThatWaitsForDaysStillShowsWhereItsTimeWent(t *testing.T) {
	start := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	at := func(s int) *time.Time { t := start.Add(time.Duration(s) * time.Second); return &t }
	const days = 3 * 86400
	gate := &api.Gate{Project: "p", Run: 12, Question: "Publish 1.4?", Count: 2, Asked: *at(10), Until: *at(days),
		Answers: []api.Answer{{By: "ada", Yes: true, At: *at(60), Comment: "well"}}}
	step := func(name string, from, to int) api.Step {
		return api.Step{Name: name, State: state.Passed, Started: at(from), Finished: at(to)}
	}
	d := api.RunDetail{Run: api.Run{Project: "p", Number: 12, Pipeline: "release", State: state.Waiting, Queued: start},
		Now: *at(days), Jobs: []api.Job{
			{Name: "apps", State: state.Passed, Queued: at(0), Claimed: at(0), Finished: at(10),
				Steps: []api.Step{step("first", 0, 5), step("second", 5, 10)}},
			{Name: "go", State: state.Waiting, Queued: at(10), Gate: gate}}}
	var b strings.Builder
	s := NewScreen(&b)
	s.Run(d)
	assert.Contains(t, b.String(), "first                           5.0 s  "+strings.Repeat("█", 20)+"\n")
	assert.Contains(t, b.String(), "waits, 1 of 2 said yes")
	assert.Contains(t, b.String(), "ada")
	assert.Contains(t, b.String(), "Answer: piston answer p 12 yes, or no")
	assert.Contains(t, b.String(), "of which people were asked for")

	for outcome, wanted := range map[string]string{"yes": "passed, by ada", "no": "ended, no by ", "cancelled": "stopped",
		"unanswered": "its time is over, 1 of 2 said yes"} {
		over := *gate
		over.Outcome = outcome
		assert.Contains(t, GateWord(over), wanted)
	}
	gate.MayNot = "this is for any keeper to answer"
	b.Reset()
	s.Asked(*gate)
	assert.Contains(t, b.String(), "this is for any keeper to answer")
	assert.NotContains(t, b.String(), "piston answer")
}

func TestPausesAreWhatNobodyWorkedIn(t *testing.T) {
	start := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	at := func(s int) *time.Time { t := start.Add(time.Duration(s) * time.Second); return &t }
	d := api.RunDetail{Run: api.Run{Queued: start, Finished: at(100)}, Jobs: []api.Job{
		{Queued: at(0), Finished: at(20)}, {Queued: at(50), Finished: at(60)},
		{Gate: &api.Gate{Asked: *at(10), Ended: at(90)}}, {Gate: &api.Gate{Asked: *at(5), Ended: at(95)}}}}
	a := axisOf(d)
	assert.EqualValues(t, 35_000, a.total, "20 and 10 of work, and 5 at the end")
	assert.EqualValues(t, 20_000, a.at(*at(50)))
	assert.EqualValues(t, 25_000, a.at(*at(55)))
}
