package state

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

var all = []State{Queued, Running, Passed, Failed, Cancelled, TimedOut, Skipped, Reused, Waiting}

func TestOverAndGood(t *testing.T) {
	over := map[State]bool{Passed: true, Failed: true, Cancelled: true, TimedOut: true, Skipped: true, Reused: true}
	good := map[State]bool{Passed: true, Reused: true}
	for _, s := range all {
		assert.Equal(t, over[s], s.Over(), s)
		assert.Equal(t, good[s], s.Good(), s)
		assert.False(t, s.Good() && !s.Over(), s)
	}
}

func TestWorse(t *testing.T) {
	order := []State{Passed, Cancelled, TimedOut, Failed}
	for i, a := range order {
		for k, b := range order {
			assert.Equal(t, order[max(i, k)], Worse(a, b), "%s and %s", a, b)
		}
		assert.Equal(t, a, Worse(a, Skipped), "what is skipped makes nothing worse")
	}
}
