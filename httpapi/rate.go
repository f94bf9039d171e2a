package httpapi

import (
	"fmt"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"gentlepiston.example/piston/service/people"
)

// rates bounds how often each of many may do something. It is this server's own: a limit that is kept loosely does no
// harm, and one that is lost with the server neither.
type rates struct {
	perSecond rate.Limit
	burst     int

	mu      sync.Mutex
	by      map[string]*rate.Limiter
	cleared time.Time
}

func newRates(perSecond float64, burst int) *rates {
	return &rates{perSecond: rate.Limit(perSecond), burst: burst, by: map[string]*rate.Limiter{}}
}

// clearEvery is how often those are forgotten who have done nothing lately.
const clearEvery = time.Minute

func (r *rates) of(who string) *rate.Limiter {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := time.Now(); now.Sub(r.cleared) > clearEvery {
		for name, l := range r.by {
			if l.TokensAt(now) >= float64(r.burst) {
				delete(r.by, name)
			}
		}
		r.cleared = now
	}
	l := r.by[who]
	if l == nil {
		l = rate.NewLimiter(r.perSecond, r.burst)
		r.by[who] = l
	}
	return l
}

// allow counts one more, or refuses it.
func (r *rates) allow(who string) error {
	if !r.of(who).Allow() {
		return people.TooMany{Wait: r.pause()}
	}
	return nil
}

func (r *rates) pause() time.Duration {
	return max(time.Second, time.Duration(float64(time.Second)/float64(r.perSecond)))
}

func retryAfter(wait time.Duration) string { return fmt.Sprint(int(wait.Seconds()) + 1) }
