package bisect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// broke begins a search for a run that has failed, as its pipeline wants. That there is nothing to search is no
// failure.
func (s *Bisect) broke(ctx context.Context, of work.Broke) error {
	run, err := s.Store.RunByID(ctx, of.Run)
	if errors.Is(err, store.ErrNotFound) || err == nil && run.State != state.Failed {
		return nil // it is gone, or goes on
	}
	if err != nil {
		return err
	}
	before, err := s.Store.StateBefore(ctx, run)
	if err != nil || before != string(state.Passed) {
		return err // the one that broke it is searched, not each that fails after it
	}
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(jobs, func(j store.Job) bool { return failedAtWork(j.State) && !j.Definition.V.Advisory })
	if i < 0 {
		return nil // it never began
	}
	_, err = s.begin(ctx, run, jobs[i], "")
	if errors.Is(err, ground.ErrInvalid) || errors.Is(err, ground.ErrExists) || errors.Is(err, errPlain) {
		s.Log.Info("no first bad change is looked for", "project", run.Project, "run", run.Number, "why", err)
		return nil
	}
	return err
}

// goOn goes on with a search: judges the try that is over, and begins the next one, or ends it.
func (s *Bisect) goOn(ctx context.Context, due work.TryOver) error {
	for {
		more, err := s.step(ctx, due)
		if err != nil || !more {
			return err
		}
	}
}

// step does one thing of a search; more is whether another can be done at once.
func (s *Bisect) step(ctx context.Context, due work.TryOver) (more bool, err error) {
	var b store.Bisection
	var tries []store.BisectionTry
	err = s.Tx(ctx, func(q ground.Q) (err error) {
		if b, err = q.LockBisection(ctx, due.Bisection); err != nil {
			return err
		}
		tries, err = q.BisectionTries(ctx, b.ID)
		return err
	})
	if errors.Is(err, store.ErrNotFound) || err == nil && b.Ended != nil {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	of, err := s.Store.RunByID(ctx, b.RunID)
	if err != nil {
		return false, err
	}
	if t, is := open(tries); is {
		over, err := s.judge(ctx, of, b, &t)
		if err != nil || !over {
			return false, err
		}
		return true, s.Tx(ctx, func(q ground.Q) error {
			if err := q.JudgeBisectionTry(ctx, b.ID, t); err != nil {
				return err
			}
			return q.Tell(ctx, ground.OfRun(fact.RunChanged, of))
		})
	}
	known := knownBy(b, tries)
	if known.Next < 0 {
		return false, s.end(ctx, of, b, known)
	}
	return s.try(ctx, of, b, len(tries), known.Next)
}

// try begins the try of a change, or notes that it cannot be tried. had is how many tries there were.
func (s *Bisect) try(ctx context.Context, of store.Run, b store.Bisection, had, position int) (more bool, err error) {
	t := store.BisectionTry{Position: position}
	write, err := s.intake.PlanTry(ctx, of, b.Job, b.Changes.V[position].Commit, b.ID)
	if errors.Is(err, intake.ErrUntried) || errors.Is(err, plan.ErrActs) {
		t.Verdict, t.Why = bisect.Unclear, err.Error()
	} else if err != nil {
		return false, err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		now, err := q.LockBisection(ctx, b.ID)
		if err != nil || now.Ended != nil {
			return err
		}
		tries, err := q.BisectionTries(ctx, b.ID)
		if err != nil || len(tries) != had {
			return err // another server has done it
		}
		if t.Verdict == "" {
			run, err := write(ctx, q)
			if err != nil {
				return err
			}
			t.Run = run.Number
		}
		if err := q.AddBisectionTry(ctx, b.ID, t); err != nil {
			return err
		}
		return q.Tell(ctx, ground.OfRun(fact.RunChanged, of))
	})
	return t.Verdict != "", err
}

// judge tells how a try went, once it is over.
func (s *Bisect) judge(ctx context.Context, of store.Run, b store.Bisection, t *store.BisectionTry) (over bool,
	err error) {
	run, err := s.Store.RunByNumber(ctx, of.Project, t.Run)
	if errors.Is(err, store.ErrNotFound) {
		t.Verdict, t.Why = bisect.Unclear, "its run is no longer kept"
		return true, nil
	}
	if err != nil || !run.State.Over() {
		return false, err
	}
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return false, err
	}
	i := slices.IndexFunc(jobs, func(j store.Job) bool { return j.Name == b.Job })
	if i < 0 {
		return false, fmt.Errorf("run %d has no job %s", run.Number, b.Job)
	}
	job := jobs[i]
	switch {
	case job.State == state.Passed:
		t.Verdict = bisect.Passed
	case !failedAtWork(job.State):
		t.Verdict, t.Why = bisect.Unclear, string(job.State)
		if job.Reason != "" {
			t.Why += ": " + job.Reason
		}
	default:
		print, err := s.printOf(ctx, run.ID, job.ID)
		if err != nil {
			return false, err
		}
		if t.Verdict = bisect.Failed; len(b.Print) > 0 && !bytes.Equal(print, b.Print) {
			t.Verdict, t.Why = bisect.Unclear, "it fails, but in another way"
		}
	}
	return true, nil
}

// end ends a search, and tells what was found.
func (s *Bisect) end(ctx context.Context, of store.Run, b store.Bisection, known bisect.Answer) error {
	err := s.Tx(ctx, func(q ground.Q) error {
		if err := q.EndBisection(ctx, b.ID, ""); err != nil {
			return err
		}
		if err := q.Tell(ctx, ground.OfRun(fact.RunChanged, of)); err != nil || known.Again || known.First != known.Last {
			return err
		}
		c := b.Changes.V[known.Last]
		return q.PutOff(ctx, notify.Happened{Project: of.ProjectID, What: news.ChangeFound,
			Key: fmt.Sprint("bisection ", b.ID), Path: fmt.Sprintf("/%s/%d", of.Project, of.Number),
			Subject: fmt.Sprintf("%s of %s has failed in %s since %.12s, %s", b.Job, of.Pipeline, of.Project, c.Commit,
				c.Subject),
			Mine: []string{b.AskedBy, c.Author},
			Data: map[string]any{"run": of.Number, "job": b.Job, "change": noteOf(c)}})
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil // another server has
	}
	return err
}
