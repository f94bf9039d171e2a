package host

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

const (
	// gcPercent is how much the heap may grow before it is collected (runtime/debug, SetGCPercent). A server that mostly
	// passes bytes on gains little from a large heap; collecting earlier keeps it small.
	gcPercent = 40
	// quietFor is how long nothing was collected when a server is taken for idle.
	quietFor = time.Second
)

// giveBack gives back, once nothing is done, what was done with: by itself Go collects only while something allocates,
// and an idle server would keep for minutes what its last busy moment took.
func giveBack(ctx context.Context) {
	collected := []metrics.Sample{{Name: "/gc/cycles/total:gc-cycles"}}
	cycles := func() uint64 {
		metrics.Read(collected)
		return collected[0].Value.Uint64()
	}
	last, given := cycles(), uint64(0)
	tick := time.NewTicker(quietFor)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if now := cycles(); now != last || now == given {
			last = now
			continue
		}
		debug.FreeOSMemory()
		last = cycles()
		given = last
	}
}
