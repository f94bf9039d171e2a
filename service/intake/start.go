package intake

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// StartRun starts a pipeline by hand at a branch, tag or commit.
func (s *Intake) StartRun(ctx context.Context, project, person string, in api.StartRun) (api.Run, error) {
	why := cause{person: person, inputs: in.Inputs}
	switch {
	case in.Fresh && in.Audit:
		return api.Run{}, fmt.Errorf("fresh and audit together are %w: an audit compares with what fresh ignores",
			ground.ErrInvalid)
	case in.Fresh:
		why.anew = store.Fresh
	case in.Audit:
		why.anew = store.Audit
	}
	return s.startRun(ctx, project, in, why)
}

func (s *Intake) startRun(ctx context.Context, project string, in api.StartRun, why cause) (api.Run, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Run{}, err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return api.Run{}, err
	}
	defer v.close()
	event, err := v.resolve(in.Ref)
	if err != nil {
		return api.Run{}, v.notThere(in.Ref, project)
	}
	event.Pipeline = in.Pipeline
	if event.Branch == "" && event.Tag == "" {
		// A commit that no branch and no tag holds may be anybody's, such as a proposal's.
		held, err := v.repo.IsHeld(ctx, event.Commit)
		if err != nil {
			return api.Run{}, err
		}
		event.Outside = !held
	}
	return s.planByHand(ctx, p, v, event, why)
}

// planByHand plans a run that a person waits for the number of.
func (s *Intake) planByHand(ctx context.Context, p store.Project, v *view, e plan.Event, why cause) (api.Run, error) {
	pl, err := s.planner(ctx, p, v)
	if err != nil {
		return api.Run{}, err
	}
	if err := pl.checkInputs(ctx, e, why.inputs); err != nil {
		return api.Run{}, err
	}
	if err := pl.event(ctx, e, why); err != nil {
		return api.Run{}, err
	}
	if len(pl.out.runs) == 0 {
		return api.Run{}, fmt.Errorf("no file piston/%s.toml at %.12s: %w", e.Pipeline, e.Commit, ground.ErrNotFound)
	}
	var run store.Run
	err = s.Tx(ctx, func(q ground.Q) error {
		made, err := pl.write(ctx, q)
		if err != nil {
			return err
		}
		run = made[0]
		return q.Tell(ctx, fact.Fact{Kind: fact.RunStart, Project: p.Name, Subject: fmt.Sprint(run.Number),
			After: map[string]any{"pipeline": run.Pipeline,
				"branch": run.Branch, "tag": run.Tag, "commit": run.Commit, "inputs": run.Inputs.V}})
	})
	if err != nil {
		return api.Run{}, err
	}
	return ground.RunOf(run), nil
}

// lookForPerson is look with errors that a person can do something about.
func (s *Intake) lookForPerson(ctx context.Context, p store.Project) (*view, error) {
	v, err := s.look(ctx, p)
	if errors.Is(err, source.ErrNoRepository) {
		return nil, fmt.Errorf("%w: %w", ground.ErrInvalid, err)
	}
	return v, err
}

// checkInputs refuses a start by hand with values that cannot be used, before there is a run.
func (pl *planner) checkInputs(ctx context.Context, e plan.Event, given map[string]string) error {
	snap, err := pl.view.at(ctx, e.Commit)
	if err != nil {
		return err
	}
	for _, f := range snap.check(pl.known, "").Files {
		if f.Name == e.Pipeline && f.Pipeline != nil {
			if _, _, err := definition.AcceptAll(f.Pipeline.Input, given); err != nil {
				return fmt.Errorf("%w: %w", ground.ErrInvalid, err)
			}
		}
	}
	return nil
}

// resolve finds what a person means by a ref: a branch, a tag, or a commit, in this order; the main branch by none.
func (v *view) resolve(ref string) (plan.Event, error) {
	r := v.reader
	if ref == "" {
		ref = v.main
	}
	if c, err := r.Commit("refs/heads/" + ref); err == nil {
		return plan.Event{Trigger: plan.ByPerson, Branch: ref, Commit: c.ID}, nil
	}
	if c, err := r.Commit("refs/tags/" + ref); err == nil {
		return plan.Event{Trigger: plan.ByPerson, Tag: ref, Commit: c.ID}, nil
	}
	if len(ref) < 4 || strings.Trim(ref, "0123456789abcdef") != "" {
		return plan.Event{}, source.ErrNoObject
	}
	c, err := r.Commit(ref)
	return plan.Event{Trigger: plan.ByPerson, Commit: c.ID}, err
}
