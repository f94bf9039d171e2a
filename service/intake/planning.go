package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// giveUpAfter is for how long planning an event is tried while its repository cannot be read.
const giveUpAfter = 24 * time.Hour

// MaxPlanning is how often planning of an event may begin and not come back, since it ended the server, before the
// event is set aside.
const MaxPlanning = 3

// planWithin bounds the planning of one event, with what it reads of the repository.
const planWithin = 2 * time.Minute

// planningLease is for how long an event is planned by nobody else after who does so was last heard of.
const planningLease = 6 * time.Second

// planSoon plans a recorded event beside what is being done. What is returned is closed when it has been tried.
func (s *Intake) planSoon(project record.ProjectID, id record.PushID) <-chan struct{} {
	tried := make(chan struct{})
	s.Go(func() {
		defer close(tried)
		s.PlanRecorded(s.Life, project, id)
	})
	return tried
}

// errPanic says that the planning of an event went where it never should. The next may do the same, so it counts as if
// the server had ended.
var errPanic = errors.New("planning met a fault of the service's own")

// PlanRecorded turns a recorded event into runs, once: the runs and the mark that it is planned are one transaction,
// which begins when all has been read of the repository. Events of one project are planned one after the other.
func (s *Intake) PlanRecorded(ctx context.Context, project record.ProjectID, id record.PushID) {
	leave, entered := s.lanes.enter(ctx, project)
	if !entered {
		return
	}
	defer leave()
	push, err := s.Store.BeginPlanning(ctx, id, planningLease)
	if err != nil {
		return // planned, set aside, in other hands, or the database is away: upkeep looks again
	}
	if push.Begun > MaxPlanning {
		s.setAside(ctx, push, fmt.Sprintf("planning it ended the server %d times", push.Begun-1))
		return
	}
	err = s.tryPlan(ctx, push)
	if errors.Is(err, errPanic) {
		s.Log.Error("a push was not planned", "push", id, "error", err)
		return
	}
	if err == nil {
		return
	}
	s.returned(ctx, id)
	if errors.Is(err, store.ErrNotFound) || ctx.Err() != nil || store.Unavailable(err) {
		return
	}
	if errors.Is(err, source.ErrTooMuch) || errors.Is(err, context.DeadlineExceeded) {
		s.setAside(ctx, push, err.Error())
		return
	}
	tries, since, noteErr := s.Store.PushFailed(ctx, id, err.Error())
	if noteErr != nil {
		return
	}
	if tries == 1 {
		s.Log.Warn("a push cannot be planned; trying again", "push", id, "error", err)
	}
	if time.Since(since) > giveUpAfter {
		s.setAside(ctx, push, "given up after a day: "+err.Error())
	}
}

// returned takes back that planning has begun, as soon as the database takes it: what a database that was away has kept
// from being planned must not be set aside. Only the end of the server leaves it counted.
func (s *Intake) returned(ctx context.Context, id record.PushID) {
	for {
		// Also when the server is being ended in order.
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		err := s.Store.PlanningReturned(within, id)
		cancel()
		if err == nil || ctx.Err() != nil {
			return
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (s *Intake) tryPlan(ctx context.Context, push store.Push) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v\n%s", errPanic, p, debug.Stack())
		}
	}()
	within, cancel := context.WithTimeout(ctx, planWithin)
	defer cancel()
	defer s.keepPlanning(within, push.ID)()
	err = s.plan(within, push)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		err = fmt.Errorf("planning took more than %s: %w", planWithin, context.DeadlineExceeded)
	}
	return err
}

// keepPlanning keeps others from planning an event, until what it returns is called.
func (s *Intake) keepPlanning(ctx context.Context, id record.PushID) (end func()) {
	ctx, cancel := context.WithCancel(ctx)
	var kept sync.WaitGroup
	kept.Go(func() {
		for tick := time.NewTicker(planningLease / 3); ; {
			select {
			case <-tick.C:
				// Should it be lost, another may plan the event too; only one of both can write what comes of it.
				_ = s.Store.KeepPlanning(ctx, id, planningLease)
			case <-ctx.Done():
				tick.Stop()
				return
			}
		}
	})
	return func() {
		cancel()
		kept.Wait()
	}
}

// plan finds what an event starts, and writes it.
func (s *Intake) plan(ctx context.Context, push store.Push) error {
	p, err := s.Store.ProjectByID(ctx, push.ProjectID)
	if err != nil {
		return err
	}
	var event Spooled
	if err := json.Unmarshal(push.Body, &event); err != nil {
		return err
	}
	v, err := s.look(ctx, p)
	if err != nil {
		return err
	}
	defer v.close()
	pl, err := s.planner(ctx, p, v)
	if err != nil {
		return err
	}
	pl.push = push.ID
	switch {
	case event.Push != nil:
		err = pl.updates(ctx, event.Push.Updates)
	case event.Proposal != nil:
		err = pl.proposal(ctx, *event.Proposal)
	case event.Ended != nil:
		err = pl.ended(ctx, *event.Ended)
	case event.Due != nil:
		err = pl.due(ctx, *event.Due)
	}
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		if err := q.TakePush(ctx, push.ID); err != nil {
			return err
		}
		runs, err := pl.write(ctx, q)
		if err != nil {
			return err
		}
		return q.PushPlanned(ctx, push.ID, fmt.Sprintf("%d runs", len(runs)))
	})
}

// planningName stands where a run that could not be planned would name its pipeline.
const planningName = "planning"

// setAside takes an event out of what is planned, and tells so by a run that has failed.
func (s *Intake) setAside(ctx context.Context, push store.Push, why string) {
	err := s.Tx(ctx, func(q ground.Q) error {
		if err := q.SetPushAside(ctx, push.ID, why); err != nil {
			return err
		}
		p, err := q.ProjectByID(ctx, push.ProjectID)
		if err != nil {
			return err
		}
		run := store.Run{ProjectID: p.ID, Project: p.Name, Pipeline: planningName, Trigger: plan.OnPush, Queued: time.Now(),
			PushID: push.ID}
		var event Spooled
		if json.Unmarshal(push.Body, &event) == nil {
			event.name(&run)
		}
		run.Findings.V = []definition.Finding{check.About("set-aside", definition.Folder, "this was not planned: "+why,
			fmt.Sprintf("Mend what is unusual in the repository and push that, or try again: piston pushes retry %s %d", p.Name,
				push.ID))}
		return addBroken(ctx, q, &run)
	})
	if errors.Is(err, store.ErrNotFound) {
		return // another has done it
	}
	s.Log.Error("a push is set aside", "push", push.ID, "why", why, "error", err)
}

// name puts into a run what is known of the event that it stands for.
func (e Spooled) name(run *store.Run) {
	switch {
	case e.Push != nil:
		for _, u := range e.Push.Updates {
			if of, ok := plan.Of(u); ok {
				run.Trigger, run.Branch, run.Tag, run.Commit, run.Target, run.Proposal = of.Trigger, of.Branch, of.Tag, of.Commit,
					of.Target, of.Proposal
				return
			}
		}
	case e.Proposal != nil:
		run.Trigger, run.Proposal, run.Target = plan.OnProposal, e.Proposal.Proposal, e.Proposal.Target
		run.Commit, run.Outside = e.Proposal.Commit, !e.Proposal.Inside
	case e.Ended != nil:
		run.Trigger = plan.OnPipeline
	case e.Due != nil:
		run.Trigger, run.Branch, run.Schedule = plan.OnSchedule, e.Due.Branch, e.Due.Name
	}
}

// planLeftBehind sees to it that what was recorded and is not planned yet is: of each project in order, and beside
// those of others, whose repositories may not answer.
func (s *Intake) planLeftBehind(ctx context.Context) error {
	left, err := s.Store.UnplannedPushes(ctx, time.Now().Add(-spoolAge))
	of := map[record.ProjectID][]record.PushID{}
	for _, p := range left {
		of[p.ProjectID] = append(of[p.ProjectID], p.ID)
	}
	for project, ids := range of {
		if !s.lanes.sweep(project) {
			continue
		}
		s.Go(func() {
			defer s.lanes.swept(project)
			for _, id := range ids {
				s.PlanRecorded(ctx, project, id)
			}
		})
	}
	return err
}
