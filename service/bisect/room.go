// Package bisect is the room of first bad changes: a job that failed after it had passed is run at the changes between,
// by halves, on machines that nobody else wants, until it is known with which change it began to fail.
//
// A search does one thing after another, and each follows from the records: what was tried, how that ended, what
// core/bisect asks for next. A try is a run like any other, but that it takes no number, keeps nothing, is told to
// nobody and is no part of the history.
package bisect

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// Bisect is the room of first bad changes.
type Bisect struct {
	*ground.Ground
	intake *intake.Intake
	work   *work.Work
}

// New makes it.
func New(g *ground.Ground, i *intake.Intake, w *work.Work) *Bisect {
	s := &Bisect{g, i, w}
	ground.Does(g, s.goOn)
	ground.Does(g, s.broke)
	return s
}

// Begin begins to look for the first change with which a job of a run fails.
func (s *Bisect) Begin(ctx context.Context, project string, number record.RunNumber, in api.NewBisection) (
	api.Bisection, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.Bisection{}, err
	}
	job, err := s.whichJob(ctx, run, in.Job)
	if err != nil {
		return api.Bisection{}, err
	}
	b, err := s.begin(ctx, run, job, ground.WhoAsks(ctx).Name)
	if err != nil {
		return api.Bisection{}, err
	}
	return s.shown(ctx, run, b)
}

// whichJob finds the job that is meant: the one of that name, or the only one that failed.
func (s *Bisect) whichJob(ctx context.Context, run store.Run, name string) (store.Job, error) {
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return store.Job{}, err
	}
	var failed []store.Job
	var names []string
	for _, j := range jobs {
		if failedAtWork(j.State) {
			failed, names = append(failed, j), append(names, j.Name)
		}
		if j.Name == name && !failedAtWork(j.State) {
			return j, fmt.Errorf("job %s of run %d has not failed (%s): to look for what broke it is %w", name, run.Number,
				j.State, ground.ErrInvalid)
		}
	}
	i := slices.Index(names, name)
	switch {
	case i >= 0:
		return failed[i], nil
	case name != "":
		return store.Job{}, fmt.Errorf("job %q of run %d is %w", name, run.Number, ground.ErrNotFound)
	case len(failed) == 0:
		return store.Job{}, fmt.Errorf("no job of run %d has failed: to look for what broke it is %w", run.Number,
			ground.ErrInvalid)
	case len(failed) > 1:
		return store.Job{}, fmt.Errorf("several jobs of run %d have failed: choose one of %q, or what is asked is %w",
			run.Number, names, ground.ErrInvalid)
	}
	return failed[0], nil
}

func failedAtWork(s state.State) bool { return s == state.Failed || s == state.TimedOut }

// errPlain says that there is nothing to search: it is plain which change it is.
var errPlain = errors.New("it is plain what broke it")

// begin begins a search; by is "" when the pipeline wants it.
func (s *Bisect) begin(ctx context.Context, run store.Run, job store.Job, by string) (store.Bisection, error) {
	b := store.Bisection{ProjectID: run.ProjectID, RunID: run.ID, Job: job.Name, AskedBy: by}
	good, err := s.before(ctx, run)
	if err != nil {
		return b, err
	}
	b.Good = good.Number
	if b.Changes.V, err = s.intake.Suspects(ctx, good, run); err != nil {
		return b, err
	}
	if len(b.Changes.V) == 1 && by == "" {
		return b, fmt.Errorf("%w: one change lies between", errPlain)
	}
	if len(b.Changes.V) == 0 {
		return b, fmt.Errorf("run %d is of the commit that passed in run %d: no change is to blame, and to look for one "+
			"is %w", run.Number, good.Number, ground.ErrInvalid)
	}
	if err := s.intake.Alone(ctx, run, job.Name); err != nil {
		if errors.Is(err, plan.ErrActs) || errors.Is(err, intake.ErrUntried) {
			return b, fmt.Errorf("%w: to run it at other changes is %w", err, ground.ErrInvalid)
		}
		return b, err
	}
	if b.Print, err = s.printOf(ctx, run.ID, job.ID); err != nil {
		return b, err
	}
	told := fact.Fact{Kind: fact.BisectionBegin, Project: run.Project, Subject: subject(run, job.Name),
		After: map[string]any{"good": good.Number, "changes": len(b.Changes.V)}}
	err = s.Acting(ctx, told, func(q ground.Q) error {
		if b.ID, err = q.BeginBisection(ctx, b); err != nil {
			return err
		}
		if err := q.Tell(ctx, ground.OfRun(fact.RunChanged, run)); err != nil {
			return err
		}
		return q.PutOff(ctx, work.TryOver{Bisection: b.ID})
	})
	if errors.Is(err, store.ErrNotFound) {
		return b, fmt.Errorf("a search for what broke %s of run %d: %w", job.Name, run.Number, ground.ErrExists)
	}
	return b, err
}

func subject(run store.Run, job string) string { return fmt.Sprintf("%s of run %d", job, run.Number) }

// before finds the run that passed last on the branch of one that failed.
func (s *Bisect) before(ctx context.Context, run store.Run) (store.Run, error) {
	switch {
	case run.Branch == "" || run.Proposal != "" || run.Outside:
		return store.Run{}, fmt.Errorf("run %d is of no branch: to look for what broke it is %w", run.Number,
			ground.ErrInvalid)
	case run.Bisection != 0:
		return store.Run{}, fmt.Errorf("run %d is itself a try: to look for what broke it is %w", run.Number,
			ground.ErrInvalid)
	}
	good, err := s.Store.LastPassed(ctx, run)
	if errors.Is(err, store.ErrNotFound) || err == nil && good.Branch != run.Branch {
		return store.Run{}, fmt.Errorf("no run of %s on %s has passed before run %d: to look for what broke it is %w",
			run.Pipeline, run.Branch, run.Number, ground.ErrInvalid)
	}
	return good, err
}

// printOf is by what the failure of a job is known; nothing when that is not known.
func (s *Bisect) printOf(ctx context.Context, run record.RunID, job record.JobID) ([]byte, error) {
	attempts, err := s.Store.Attempts(ctx, run)
	if err != nil {
		return nil, err
	}
	for _, a := range slices.Backward(attempts) {
		if a.JobID != job {
			continue
		}
		f, err := s.Store.FailureOf(ctx, a.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil
		}
		return f.Print, err
	}
	return nil, nil
}

// Stop ends a search, and the try that is at work.
func (s *Bisect) Stop(ctx context.Context, project string, number record.RunNumber, job string) error {
	run, b, err := s.find(ctx, project, number, job)
	if err != nil {
		return err
	}
	who := ground.WhoAsks(ctx).Name
	told := fact.Fact{Kind: fact.BisectionStop, Project: run.Project, Subject: subject(run, job)}
	err = s.Acting(ctx, told, func(q ground.Q) error {
		if err := q.EndBisection(ctx, b.ID, "stopped by "+who); err != nil {
			return err
		}
		return q.Tell(ctx, ground.OfRun(fact.RunChanged, run))
	})
	if err != nil {
		return ground.Known(err, "a search for what broke %s of run %d that is not over", job, number)
	}
	tries, err := s.Store.BisectionTries(ctx, b.ID)
	if err != nil {
		return err
	}
	for _, t := range tries {
		if t.Verdict != "" {
			continue
		}
		err := s.work.StopRun(ctx, project, t.Run, who)
		if err != nil && !errors.Is(err, ground.ErrInvalid) && !errors.Is(err, ground.ErrNotFound) { // it is over already
			return err
		}
	}
	return nil
}

func (s *Bisect) find(ctx context.Context, project string, number record.RunNumber, job string) (run store.Run,
	b store.Bisection, err error) {
	if run, err = s.FindRun(ctx, project, number); err != nil {
		return run, b, err
	}
	list, err := s.Store.Bisections(ctx, run.ID)
	if err != nil {
		return run, b, err
	}
	for _, one := range list {
		if one.Job == job {
			return run, one, nil
		}
	}
	return run, b, fmt.Errorf("a search for what broke %s of run %d: %w", job, number, ground.ErrNotFound)
}
