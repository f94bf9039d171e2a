package intake

import (
	"context"
	"sync"

	"gentlepiston.example/piston/core/record"
)

// planningsAtOnce is how many events a server plans at a time: each starts programs of Git.
const planningsAtOnce = 16

// lanes keep the events of a project in the order in which they came, one at a time, so that a repository that does not
// answer holds up nobody else's.
type lanes struct {
	all chan struct{}

	mu       sync.Mutex
	of       map[record.ProjectID]chan struct{}
	sweeping map[record.ProjectID]bool // whose events left behind are being planned
}

func newLanes() *lanes {
	return &lanes{all: make(chan struct{}, planningsAtOnce), of: map[record.ProjectID]chan struct{}{},
		sweeping: map[record.ProjectID]bool{}}
}

// sweep takes it on to plan what a project has left behind, unless somebody is at it. Whoever did calls swept.
func (l *lanes) sweep(project record.ProjectID) (mine bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	mine = !l.sweeping[project]
	l.sweeping[project] = true
	return mine
}

func (l *lanes) swept(project record.ProjectID) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.sweeping, project)
}

// enter waits for its turn until ctx ends. Whoever entered leaves.
func (l *lanes) enter(ctx context.Context, project record.ProjectID) (leave func(), entered bool) {
	l.mu.Lock()
	lane := l.of[project]
	if lane == nil {
		lane = make(chan struct{}, 1)
		l.of[project] = lane
	}
	l.mu.Unlock()
	select {
	case lane <- struct{}{}: // whoever waits longest is first
	case <-ctx.Done():
		return nil, false
	}
	select {
	case l.all <- struct{}{}:
		return func() { <-l.all; <-lane }, true
	case <-ctx.Done():
		<-lane
		return nil, false
	}
}
