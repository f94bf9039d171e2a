package runner

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What stays keeps its host user, so that no later job is the same one.
func TestNoTwoJobsAreOneUser(t *testing.T) {
	var a accounts
	assert.Equal(t, []int{0, 1, 2}, []int{a.take(), a.take(), a.take()})
	a.giveBack(1)
	assert.Equal(t, []int{1, 3}, []int{a.take(), a.take()}, "the lowest that is free")
	var all sync.WaitGroup
	var mu sync.Mutex
	taken := map[int]bool{}
	for range 50 {
		all.Go(func() {
			n := a.take()
			mu.Lock()
			defer mu.Unlock()
			assert.False(t, taken[n])
			taken[n] = true
		})
	}
	all.Wait()
	assert.Len(t, taken, 50)
}

func TestFewWorkspacesStayAtATime(t *testing.T) {
	var s standing
	for range mostStanding {
		assert.True(t, s.add())
	}
	assert.False(t, s.add())
	s.remove()
	assert.True(t, s.add())
}
