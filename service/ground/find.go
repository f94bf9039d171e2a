package ground

import (
	"context"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// FindProject finds a project's record.
func (s *Ground) FindProject(ctx context.Context, name string) (store.Project, error) {
	p, err := s.Store.ProjectByName(ctx, name)
	return p, Known(err, "project %s", name)
}

// FindRun finds a run's record.
func (s *Ground) FindRun(ctx context.Context, project string, number record.RunNumber) (store.Run, error) {
	r, err := s.Store.RunByNumber(ctx, project, number)
	return r, Known(err, "run %d of %s", number, project)
}
