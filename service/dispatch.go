package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/store"
)

// dispatcher gives queued jobs to the runners that wait at this server. All that wait are served by one look at the
// queue, so that a hundred of them cost little more than one. What it holds is only who waits: the queue is in the
// records, and its lock keeps servers from deciding at the same time.
type dispatcher struct {
	s       *Service
	mu      sync.Mutex
	waiting []*waiter
	more    chan struct{}
}

// leastWait is how long a claim is held open at least: long enough for one look at the queue.
const leastWait = 250 * time.Millisecond

// waiter is a runner whose claim is held open.
type waiter struct {
	runner store.Runner
	given  chan store.Attempt // holds one
}

func newDispatcher(s *Service) *dispatcher {
	return &dispatcher{s: s, more: make(chan struct{}, 1)}
}

// wait waits for work for a runner, of the one project when its token is for one only; nil when there is none for as
// long as it wants to wait.
func (d *dispatcher) wait(ctx context.Context, in api.ClaimRequest, token, project int64) (*store.Attempt, error) {
	w := &waiter{runner: store.Runner{Name: in.Runner, Labels: in.Labels, Token: token, Project: project}, given: make(chan store.Attempt, 1)}
	w.runner.Tools.V = in.Tools
	d.mu.Lock()
	d.waiting = append(d.waiting, w)
	d.mu.Unlock()
	poke(d.more)
	timer := time.NewTimer(max(leastWait, time.Duration(in.WaitMs)*time.Millisecond))
	defer timer.Stop()
	select {
	case a := <-w.given:
		return &a, nil
	case <-timer.C:
	case <-ctx.Done():
	case <-d.s.life.Done():
	}
	d.leave(w)
	select {
	case a := <-w.given:
		if ctx.Err() == nil {
			return &a, nil
		}
		// The runner went away in the very moment; another may have the job.
		err := d.s.store.TakeBack(context.WithoutCancel(ctx), a)
		d.s.stream.Wake(jobsTopic)
		return nil, err
	default:
		return nil, nil
	}
}

func (d *dispatcher) leave(w *waiter) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i, other := range d.waiting {
		if other == w {
			d.waiting = append(d.waiting[:i], d.waiting[i+1:]...)
			return
		}
	}
}

// run serves those who wait until the service ends: when one comes, when there is news of jobs, and every so often,
// since a wake-up can be missed and a job must not be.
func (d *dispatcher) run(ctx context.Context) error {
	woken, cancel, err := d.s.stream.OnWake(jobsTopic)
	if err != nil {
		return err
	}
	defer cancel()
	for ctx.Err() == nil {
		if err := d.round(ctx); err != nil && ctx.Err() == nil {
			if !store.Unavailable(err) {
				d.s.log.Warn("handing out jobs failed; trying again", "error", err)
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
	if len(waiting) == 0 {
		return nil
	}
	var given []store.Attempt
	at := map[int64]*waiter{}
	err := d.s.store.Tx(ctx, func(q store.Q) error {
		if err := q.LockQueue(ctx); err != nil {
			return err
		}
		queue, err := q.Queue(ctx, labelsOf(waiting), lookAhead+len(waiting), time.Now())
		if err != nil || len(queue.Jobs) == 0 {
			return err
		}
		runners := make([]schedule.Runner, len(waiting))
		for i, w := range waiting {
			runners[i] = runnerOf(w.runner)
		}
		to := map[int64]store.Runner{}
		for _, g := range queue.Assign(runners) {
			at[g.Job.ID], to[g.Job.ID] = waiting[g.Runner], waiting[g.Runner].runner
		}
		if len(to) == 0 {
			return nil
		}
		given, err = q.HandOut(ctx, to, Lease)
		return err
	})
	if err != nil {
		return err
	}
	poke(d.s.kick)
	return d.hand(ctx, given, at)
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
func (d *dispatcher) hand(ctx context.Context, given []store.Attempt, at map[int64]*waiter) (err error) {
	for _, a := range given {
		w := at[a.ID]
		d.mu.Lock()
		there := false
		for i, other := range d.waiting {
			if other == w {
				d.waiting = append(d.waiting[:i], d.waiting[i+1:]...)
				there = true
				w.given <- a
				break
			}
		}
		d.mu.Unlock()
		if !there {
			err = errors.Join(err, d.s.store.TakeBack(ctx, a))
		}
	}
	return err
}
