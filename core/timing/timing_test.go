package timing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	base := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	at := func(ms int) time.Time { return base.Add(time.Duration(ms) * time.Millisecond) }
	j := Job{Queued: at(0), Claimed: at(100), Prepared: at(400), Finished: at(2500),
		Steps: []Step{{"fetch", at(400), at(900)}, {"build", at(910), at(2000)}, {Name: "never"}}}
	assert.Equal(t, Report{Queue: 100, Prepare: 300, Steps: 1590, Wrap: 500, Total: 2500, Slowest: "build", SlowMs: 1090}, Of(j, at(9999)))

	assert.Equal(t, Report{}, Of(Job{}, at(5)), "nothing has happened")
	assert.Equal(t, Report{Queue: 70, Total: 70}, Of(Job{Queued: at(0)}, at(70)), "still waiting")
	running := Of(Job{Queued: at(0), Claimed: at(10), Prepared: at(20), Steps: []Step{{Name: "a", Started: at(30)}}}, at(130))
	assert.Equal(t, Report{Queue: 10, Prepare: 10, Steps: 100, Total: 130, Slowest: "a", SlowMs: 100}, running)
	assert.Zero(t, Of(Job{Queued: at(50), Claimed: at(40)}, at(60)).Queue, "clocks may differ")
}
