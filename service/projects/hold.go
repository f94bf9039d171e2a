package projects

import (
	"context"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
)

// Hold keeps a project's jobs from being handed out; with an empty reason they go again.
func (s *Projects) Hold(ctx context.Context, project, person, reason string) (api.Project, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	by := person
	if reason == "" {
		by = ""
	}
	held := fact.Fact{Kind: fact.ProjectHold, Project: project, Before: map[string]string{"reason": p.Held},
		After: map[string]string{"reason": reason}}
	err = s.Acting(ctx, held, func(q ground.Q) error { return q.HoldProject(ctx, p.ID, reason, by) })
	if err != nil {
		return api.Project{}, err
	}
	return s.Project(ctx, project)
}

// LimitProject bounds how many jobs of a project are at work at once; 0 for any number.
func (s *Projects) LimitProject(ctx context.Context, project string, atOnce int) (api.Project, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	limited := fact.Fact{Kind: fact.ProjectLimit, Project: project, Before: map[string]int{"at_once": p.AtOnce},
		After: map[string]int{"at_once": atOnce}}
	err = s.Acting(ctx, limited, func(q ground.Q) error { return q.LimitProject(ctx, p.ID, atOnce) })
	if err != nil {
		return api.Project{}, err
	}
	return s.Project(ctx, project)
}
