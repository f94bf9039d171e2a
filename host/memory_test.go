package host

import (
	"context"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var held []byte

// What a busy moment took is given back once nothing is done, and an idle server does not collect again and again.
func TestAnIdleServerGivesBackWhatItTook(t *testing.T) {
	stats := func() (m runtime.MemStats) {
		runtime.ReadMemStats(&m)
		return m
	}
	held = make([]byte, 200<<20)
	runtime.GC()
	held = nil // nothing collects it: nothing else allocates
	before := stats()
	assert.Greater(t, before.HeapAlloc, uint64(200<<20))
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { giveBack(ctx); close(ended) }()
	var after runtime.MemStats
	assert.Eventually(t, func() bool {
		after = stats()
		return after.HeapAlloc < 100<<20 && after.HeapReleased > before.HeapReleased+100<<20
	}, 20*time.Second, 50*time.Millisecond)
	time.Sleep(4 * quietFor)
	assert.LessOrEqual(t, stats().NumGC, after.NumGC+2)
	cancel()
	<-ended
}
