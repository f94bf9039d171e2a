package intake

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// maxChanges bounds among how many changes is searched for one.
const maxChanges = 2000

// ErrUntried says that a job cannot be tried at a commit, for what is written there.
var ErrUntried = errors.New("cannot be tried")

// Suspects lists the changes by which a branch went from one run of it to a later one, in their order.
func (s *Intake) Suspects(ctx context.Context, from, to store.Run) ([]store.Suspect, error) {
	p, err := s.Store.ProjectByID(ctx, to.ProjectID)
	if err != nil {
		return nil, err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return nil, err
	}
	defer v.close()
	list, err := v.repo.Steps(ctx, from.Commit, to.Commit, maxChanges+1)
	switch {
	case errors.Is(err, source.ErrNoObject):
		return nil, fmt.Errorf("run %d is of a commit that run %d does not go on from, so that no change between them can "+
			"be told: %w", from.Number, to.Number, ground.ErrInvalid)
	case err != nil:
		return nil, err
	case len(list) > maxChanges:
		return nil, fmt.Errorf("more than %d changes lie between run %d and run %d: too many to search is %w", maxChanges,
			from.Number, to.Number, ground.ErrInvalid)
	}
	out := make([]store.Suspect, len(list))
	for i, c := range list {
		out[len(list)-1-i] = store.Suspect{Commit: c.ID, Subject: c.Subject, Author: c.Author}
	}
	return out, nil
}

// Alone tells whether a job of a run can be run by itself at the run's own commit; an error says why not.
func (s *Intake) Alone(ctx context.Context, of store.Run, job string) error {
	_, err := s.PlanTry(ctx, of, job, of.Commit, 0)
	return err
}

// PlanTry plans the run of one job of a run at another commit of its branch, as if that had been pushed then. What it
// returns writes it. An error wraps ErrUntried when it cannot be done at that commit, and plan.ErrActs when it must
// not.
func (s *Intake) PlanTry(ctx context.Context, of store.Run, job, commit string, b record.BisectionID) (
	write func(ctx context.Context, q ground.Q) (store.Run, error), err error) {
	p, err := s.Store.ProjectByID(ctx, of.ProjectID)
	if err != nil {
		return nil, err
	}
	v, err := s.look(ctx, p)
	if err != nil {
		return nil, err
	}
	defer v.close()
	pl, err := s.planner(ctx, p, v)
	if err != nil {
		return nil, err
	}
	snap, err := v.at(ctx, commit)
	if err != nil {
		return nil, err
	}
	whole, err := pl.pipelineAt(snap, of.Pipeline)
	if err != nil {
		return nil, err
	}
	if whole.Job[job] == nil {
		return nil, fmt.Errorf("it has no job %s: it %w", job, ErrUntried)
	}
	only, err := plan.Only(whole, job)
	if err != nil {
		return nil, err
	}
	// What its conditions ask for is as it was, but for the commit; so are build number and inputs. But whatever lies
	// between was looked at by nobody: what a change brought, and the next took away again, is not in what was merged. It
	// is trusted no more than what comes from outside, so that it is given no secret, and saves nothing for others.
	run := store.Run{ProjectID: p.ID, Project: p.Name, Pipeline: of.Pipeline, Trigger: plan.ByBisection,
		Branch: of.Branch, Commit: snap.commit.ID, Subject: snap.commit.Subject, Author: snap.commit.Author,
		StartedBy: of.StartedBy, Queued: time.Now(), Bisection: b, CausedBy: of.Number, BuildNumber: of.BuildNumber,
		Outside: true}
	run.Facts.V = of.Facts.V
	run.Facts.V.Trusted = false
	run.Facts.V.Commit, run.Facts.V.Subject, run.Facts.V.Author = run.Commit, run.Subject, run.Author
	run.Inputs.V, run.Facts.V.Input, err = definition.AcceptAll(only.Input, of.Inputs.V)
	if err != nil {
		return nil, fmt.Errorf("its inputs were others: it %w: %w", ErrUntried, err)
	}
	var odd []definition.Finding
	run.VersionName = pl.versionName(only, snap, &odd)
	pl.judgeSecrets(only, &run)
	for _, f := range append(odd, run.Findings.V...) {
		if f.Severity == definition.Error {
			return nil, fmt.Errorf("%s: it %w", f.Message, ErrUntried)
		}
	}
	return func(ctx context.Context, q ground.Q) (store.Run, error) {
		err := s.work.AddRun(ctx, q, &run, only)
		return run, err
	}, nil
}

// pipelineAt is a pipeline as it stands at a commit.
func (pl *planner) pipelineAt(snap *snapshot, name string) (*definition.Pipeline, error) {
	for _, f := range snap.check(pl.known, "").Files {
		if f.Name != name {
			continue
		}
		if f.Pipeline == nil {
			return nil, fmt.Errorf("its pipeline file is wrong (%s): it %w", firstError(f.Findings), ErrUntried)
		}
		return f.Pipeline, nil
	}
	return nil, fmt.Errorf("it has no pipeline %s: it %w", name, ErrUntried)
}

func firstError(list []definition.Finding) string {
	for _, f := range list {
		if f.Severity == definition.Error {
			return f.Message
		}
	}
	return "nobody says how"
}
