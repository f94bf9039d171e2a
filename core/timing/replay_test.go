package timing

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// week is a run of four jobs: two builds side by side of which one waited for the only machine, tests after one of them,
// and what needs both.
func week() []Ran {
	return []Ran{
		{Name: "core", Claimed: 0, Prepared: 100, Ended: 2100, Steps: []Stretch{{Stepping, "core", "compile", 100, 1900}}},
		{Name: "skin", Claimed: 2100, Prepared: 2200, Ended: 3200,
			Steps: []Stretch{{Stepping, "skin", "draw", 2200, 1000}}},
		{Name: "test", After: []string{"core"}, Loose: true, Ready: 2100, Claimed: 3200, Prepared: 3200, Ended: 6200,
			Steps: []Stretch{{Stepping, "test", "unit", 3200, 1000}, {Stepping, "test", "slow", 4200, 2000}}},
		{Name: "pack", After: []string{"test", "skin"}, Takes: []string{"skin"}, Loose: true, Ready: 6200, Claimed: 6200,
			Prepared: 6300, Ended: 7300, Steps: []Stretch{{Stepping, "pack", "zip", 6300, 900}}},
		{Name: "never", After: []string{"pack"}},
	}
}

func TestTheCriticalPathIsWhatHadToEnd(t *testing.T) {
	path := Critical(week())
	assert.Equal(t, []Stretch{
		{Preparing, "core", "", 0, 100}, {Stepping, "core", "compile", 100, 1900}, {Wrapping, "core", "", 2000, 100},
		{Waiting, "test", "", 2100, 1100}, {Stepping, "test", "unit", 3200, 1000}, {Stepping, "test", "slow", 4200, 2000},
		{Preparing, "pack", "", 6200, 100}, {Stepping, "pack", "zip", 6300, 900}, {Wrapping, "pack", "", 7200, 100},
	}, path)
	var sum int64
	for _, s := range path {
		sum += s.Took
	}
	assert.Equal(t, int64(7300), sum, "it leaves nothing out")
	assert.Empty(t, Critical(nil))
	assert.Empty(t, Critical([]Ran{{Name: "never"}}))
	assert.NotEmpty(t, Critical([]Ran{{Name: "a", After: []string{"a"}, Ended: 5}}), "and ends, whatever it is told")
}

func TestWhatWouldHaveMadeItShorter(t *testing.T) {
	list := WhatIf(week())
	saves := map[Shorter]int64{}
	for i, s := range list {
		saves[Shorter{Kind: s.Kind, Job: s.Job, Step: s.Step, Other: s.Other}] = s.Saves
		if i > 0 {
			assert.LessOrEqual(t, s.Saves, list[i-1].Saves, "the most first")
		}
	}
	assert.Equal(t, map[Shorter]int64{
		{Kind: OneMoreMachine}:                           1100, // the tests need not wait for the skin
		{Kind: StepReused, Job: "core", Step: "compile"}: 1900,
		{Kind: StepReused, Job: "test", Step: "unit"}:    1000,
		{Kind: StepReused, Job: "test", Step: "slow"}:    2000,
		{Kind: StepReused, Job: "pack", Step: "zip"}:     900,
		{Kind: SideBySide, Job: "test", Other: "core"}:   2100,
		{Kind: SideBySide, Job: "pack", Other: "test"}:   1100, // it still waits for the skin, and the tests are last
	}, saves)
	assert.Empty(t, WhatIf(nil))
	assert.Empty(t, WhatIf([]Ran{{Name: "a", After: []string{"b"}, Ended: 5}, {Name: "b", After: []string{"a"}, Ended: 5}}))
}

func TestTriesBeforeAreNoWait(t *testing.T) {
	twice := []Ran{{Name: "a", Ready: 10, Again: 500, Claimed: 600, Prepared: 700, Ended: 1000}}
	assert.Equal(t, []Stretch{{Tried, "a", "", 10, 490}, {Waiting, "a", "", 500, 100}, {Preparing, "a", "", 600, 100},
		{Wrapping, "a", "", 700, 300}}, Critical(twice))
	assert.Equal(t, []Shorter{{Kind: OneMoreMachine, Saves: 100}}, WhatIf(twice), "it tries no less")
}

func TestOneMoreMachineTakesOneJobAtATime(t *testing.T) {
	job := func(name string, claimed int64) Ran {
		return Ran{Name: name, Claimed: claimed, Prepared: claimed, Ended: claimed + 1000}
	}
	three := []Ran{job("a", 0), job("b", 1000), job("c", 2000)}
	assert.Equal(t, []Shorter{{Kind: OneMoreMachine, Saves: 1000}}, WhatIf(three), "one of the two that waited")
	people := job("go", 2000)
	people.Own = true
	assert.Empty(t, WhatIf([]Ran{people}), "no machine answers for people")
}
