package intake

import (
	"context"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// Restart starts a run that is over again: all of it as a new run, or in place only the jobs that did not pass.
func (s *Intake) Restart(ctx context.Context, project string, number record.RunNumber, person string,
	in api.Restart) (api.Run, error) {
	found, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.Run{}, err
	}
	if found.Bisection != 0 {
		return api.Run{}, fmt.Errorf("run %d is a try of the search for what broke run %d: to start it again is %w; have "+
			"that searched anew (piston bisect %s %d --anew)", number, found.CausedBy, ground.ErrInvalid, project,
			found.CausedBy)
	}
	if !in.Failed {
		return s.restartAll(ctx, found, person)
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		run, err := q.LockRun(ctx, found.ID)
		if err != nil {
			return err
		}
		jobs, err := q.Jobs(ctx, run.ID)
		if err != nil {
			return err
		}
		switch {
		case !run.State.Over():
			return fmt.Errorf("run %d is not over yet: %w; stop it, or wait", number, ground.ErrInvalid)
		case len(jobs) == 0:
			return fmt.Errorf("run %d never began, since its pipeline file is wrong: %w; mend that and push", number,
				ground.ErrInvalid)
		}
		planned := work.AsPlanned(jobs)
		reset := plan.Again(planned)
		if len(reset) == 0 {
			return fmt.Errorf("every job of run %d passed: %w; leave out failed to start it all again", number,
				ground.ErrInvalid)
		}
		if err := q.Reopen(ctx, run.ID); err != nil {
			return err
		}
		for i := range jobs {
			jobs[i].State, jobs[i].Reason, jobs[i].Ready = planned[i].State, planned[i].Reason, planned[i].Ready
		}
		if err := q.SettleJobs(ctx, jobs); err != nil {
			return err
		}
		run.Reopenings++
		if err := q.Tell(ctx, fact.Fact{Kind: fact.RunAgain, Project: project, Subject: fmt.Sprint(number)}); err != nil {
			return err
		}
		return s.work.SettleJobs(ctx, q, run, jobs, "")
	})
	if err != nil {
		return api.Run{}, err
	}
	run, err := s.FindRun(ctx, project, number)
	return ground.RunOf(run), err
}

// restartAll makes a new run of the same commit with the same inputs.
func (s *Intake) restartAll(ctx context.Context, was store.Run, person string) (api.Run, error) {
	p, err := s.Store.ProjectByID(ctx, was.ProjectID)
	if err != nil {
		return api.Run{}, err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return api.Run{}, err
	}
	defer v.close()
	return s.planByHand(ctx, p, v,
		plan.Event{Trigger: plan.ByPerson, Branch: was.Branch, Tag: was.Tag, Commit: was.Commit, Target: was.Target,
			Proposal: was.Proposal, Outside: was.Outside, Pipeline: was.Pipeline},
		cause{person: person, inputs: was.Inputs.V, run: was.Number})
}
