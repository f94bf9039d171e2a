package work

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// dispatcher gives queued jobs to the runners that wait at this server. All that wait are served by one look at the
// queue, so that a hundred of them cost little more than one. What it holds is only who waits: the queue is in the
// records, and its lock keeps servers from deciding at the same time.
type dispatcher struct {
	*ground.Ground
	mu      sync.Mutex
	waiting []*waiter
	more    chan struct{}
}

// leastWait is how long a claim is held open at least: long enough for one look at the queue.
const leastWait = 250 * time.Millisecond

// waiter is a runner whose claim is held open.
type waiter struct {
	runner store.Runner
	given  chan given    // holds one
	gone   chan struct{} // closed when its token stands no more
}

// given is what a runner gets that waits: an attempt, or tools it is to look for first.
type given struct {
	attempt *store.Attempt
	lookFor []string
}

func newDispatcher(g *ground.Ground) *dispatcher {
	return &dispatcher{Ground: g, more: make(chan struct{}, 1)}
}

// wait waits for work for a runner, of the one project when its token is for one only; nil when there is none for as
// long as it wants to wait.
func (d *dispatcher) wait(ctx context.Context, in api.ClaimRequest, token record.TokenID, project record.ProjectID,
	clock int64) (given, error) {
	w := &waiter{runner: store.Runner{Name: in.Runner, Labels: in.Labels, Token: token, Project: project, ClockMs: clock},
		given: make(chan given, 1), gone: make(chan struct{})}
	w.runner.Tools.V, w.runner.Lacks = in.Tools, in.Lacks
	d.mu.Lock()
	d.waiting = append(d.waiting, w)
	d.mu.Unlock()
	select {
	case d.more <- struct{}{}:
	default: // it is told already
	}
	timer := time.NewTimer(max(leastWait, time.Duration(in.WaitMs)*time.Millisecond))
	defer timer.Stop()
	select {
	case g := <-w.given:
		return g, nil
	case <-w.gone:
		return given{}, fmt.Errorf("the runner's token is revoked or has expired: %w", ground.ErrSignIn)
	case <-timer.C:
	case <-ctx.Done():
	case <-d.Life.Done():
	}
	d.leave(w)
	select {
	case g := <-w.given:
		if ctx.Err() == nil || g.attempt == nil {
			return g, nil
		}
		// The runner went away in the very moment; another may have the job.
		err := d.Store.TakeBack(context.WithoutCancel(ctx), *g.attempt)
		d.Stream.Wake(ground.JobsTopic)
		return given{}, err
	default:
		return given{}, nil
	}
}

// give ends a runner's waiting, unless that is over already. Both under one lock: who stops waiting finds what it got.
func (d *dispatcher) give(w *waiter, g given) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.out(w) {
		return false
	}
	w.given <- g
	return true
}

// leave takes one out of those who wait, and tells whether it was among them.
func (d *dispatcher) leave(w *waiter) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.out(w)
}

func (d *dispatcher) out(w *waiter) bool {
	for i, other := range d.waiting {
		if other == w {
			d.waiting = append(d.waiting[:i], d.waiting[i+1:]...)
			return true
		}
	}
	return false
}

// run serves those who wait until the service ends: when one comes, when there is news of jobs, and every so often,
// since a wake-up can be missed and a job must not be.
func (d *dispatcher) run(ctx context.Context) error {
	woken, cancel, err := d.Stream.OnWake(ground.JobsTopic)
	if err != nil {
		return err
	}
	defer cancel()
	for ctx.Err() == nil {
		if err := d.round(ctx); err != nil && ctx.Err() == nil {
			if !store.Unavailable(err) {
				d.Log.Warn("handing out jobs failed; trying again", "error", err)
			}
			select {
			case <-time.After(200 * time.Millisecond):
			case <-ctx.Done():
			}
		}
		select {
		case <-d.more:
		case <-woken:
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
	return nil
}

// lookAhead is how many jobs of one kind are looked at beyond those that could be given at once.
const lookAhead = 20

// round gives jobs to those who wait now.
func (d *dispatcher) round(ctx context.Context) error {
	d.mu.Lock()
	waiting := append([]*waiter(nil), d.waiting...)
	d.mu.Unlock()
	if len(waiting) == 0 || d.Space.Held() != "" {
		return nil
	}
	var out []store.Attempt
	unknown := map[*waiter][]string{}
	at := map[record.AttemptID]*waiter{}
	err := d.Tx(ctx, func(q ground.Q) (err error) {
		if err := q.LockQueue(ctx); err != nil {
			return err
		}
		if waiting, err = d.standing(ctx, q, waiting); err != nil || len(waiting) == 0 {
			return err
		}
		queue, err := q.Queue(ctx, labelsOf(waiting), lookAhead+len(waiting), time.Now())
		if err != nil || len(queue.Jobs) == 0 {
			return err
		}
		runners := make([]schedule.Runner, len(waiting))
		for i, w := range waiting {
			runners[i] = RunnerOf(w.runner)
		}
		to := map[record.AttemptID]store.Runner{}
		for _, g := range queue.Assign(runners) {
			at[g.Job.ID], to[g.Job.ID] = waiting[g.Runner], waiting[g.Runner].runner
		}
		for i, w := range waiting {
			unknown[w] = queue.Unasked(runners[i])
		}
		if len(to) == 0 {
			return nil
		}
		out, err = q.HandOut(ctx, to, Lease)
		q.Told(fact.RunGoesOn) // by the one statement that hands out
		return err
	})
	if err != nil {
		return err
	}
	err = d.hand(ctx, out, at)
	for w, names := range unknown {
		if len(names) > 0 {
			d.give(w, given{lookFor: names})
		}
	}
	return err
}

// standing leaves those that may be given jobs at this moment: a claim is held open for long, and meanwhile its token
// may have been revoked, or its runner held. Whose token stands no more is told so.
func (d *dispatcher) standing(ctx context.Context, q ground.Q, waiting []*waiter) (may []*waiter, err error) {
	var tokens []record.TokenID
	var names []string
	for _, w := range waiting {
		tokens, names = append(tokens, w.runner.Token), append(names, w.runner.Name)
	}
	standing, held, err := q.MayWork(ctx, tokens, names)
	if err != nil {
		return nil, err
	}
	for _, w := range waiting {
		switch {
		case !standing[w.runner.Token]:
			if d.leave(w) {
				close(w.gone)
			}
		case !held[w.runner.Name]:
			may = append(may, w)
		}
	}
	return may, nil
}

// labelsOf gathers the labels of all that wait.
func labelsOf(waiting []*waiter) (labels []string) {
	seen := map[string]bool{}
	for _, w := range waiting {
		for _, l := range w.runner.Labels {
			if !seen[l] {
				seen[l] = true
				labels = append(labels, l)
			}
		}
	}
	return labels
}

// hand tells runners what they got; what nobody waits for any more goes back.
func (d *dispatcher) hand(ctx context.Context, out []store.Attempt, at map[record.AttemptID]*waiter) (err error) {
	for _, a := range out {
		w := at[a.ID]
		if !d.give(w, given{attempt: &a}) {
			err = errors.Join(err, d.Store.TakeBack(ctx, a))
		}
	}
	return err
}
