package runner

import "sync"

// accounts says which of its host users are with a job, or with what one has left: never two share one. The lowest
// that is free is taken, so that few are used.
type accounts struct {
	mu   sync.Mutex
	used []bool
}

func (a *accounts) take() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	for n, used := range a.used {
		if !used {
			a.used[n] = true
			return n
		}
	}
	a.used = append(a.used, true)
	return len(a.used) - 1
}

func (a *accounts) giveBack(n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.used[n] = false
}

// mostStanding bounds how many workspaces stay on a machine at a time.
const mostStanding = 4

// standing counts them.
type standing struct {
	mu sync.Mutex
	n  int
}

// add tells whether one more may stay.
func (s *standing) add() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.n >= mostStanding {
		return false
	}
	s.n++
	return true
}

func (s *standing) remove() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.n--
}
