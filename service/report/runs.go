package report

import (
	"context"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// RunFilter narrows a list of runs.
type RunFilter = store.RunFilter

// Runs lists a project's runs, newest first.
func (s *Report) Runs(ctx context.Context, project string, f RunFilter) (api.RunPage, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.RunPage{}, err
	}
	f.Limit++ // one more tells whether there is another page
	list, err := s.Store.Runs(ctx, p.ID, f)
	if err != nil {
		return api.RunPage{}, err
	}
	page := api.RunPage{Runs: make([]api.Run, 0, len(list))}
	for i, r := range list {
		if i == f.Limit-1 {
			page.Next = page.Runs[i-1].Number
			break
		}
		page.Runs = append(page.Runs, ground.RunOf(r))
	}
	return page, nil
}
