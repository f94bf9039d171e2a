package intake

import (
	"context"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/record"
)

func TestLanesAreOneAtATimeInTheirOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newLanes()
		leave, entered := l.enter(t.Context(), 1)
		require.True(t, entered)
		turns := make(chan int, 5)
		for n := range 5 {
			go func() {
				leave, entered := l.enter(t.Context(), 1)
				assert.True(t, entered)
				turns <- n
				leave()
			}()
			synctest.Wait() // it waits in the lane
		}
		other, entered := l.enter(t.Context(), 2)
		require.True(t, entered, "another project's is free")
		other()
		assert.Empty(t, turns)
		leave()
		for n := range 5 {
			assert.Equal(t, n, <-turns)
		}
	})
}

func TestLanesTogetherAreBounded(t *testing.T) {
	l := newLanes()
	var leaves []func()
	for n := range planningsAtOnce {
		leave, entered := l.enter(t.Context(), record.ProjectID(n+1))
		require.True(t, entered)
		leaves = append(leaves, leave)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, entered := l.enter(ended, planningsAtOnce+1)
	assert.False(t, entered, "there is no room, and nobody waits any more")
	leaves[0]()
	leave, entered := l.enter(t.Context(), planningsAtOnce+1)
	require.True(t, entered, "who gave up holds no lane")
	leave()
	assert.True(t, l.sweep(1))
	assert.False(t, l.sweep(1), "somebody is at it")
	assert.True(t, l.sweep(2))
	l.swept(1)
	assert.True(t, l.sweep(1))
}
