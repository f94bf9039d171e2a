package gates

import (
	"context"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Gate tells how one stands, and whether whoever asks may answer.
func (s *Gates) Gate(ctx context.Context, project string, id record.GateID) (api.Gate, error) {
	g, err := s.find(ctx, project, id)
	if err != nil {
		return api.Gate{}, err
	}
	list, err := s.told(ctx, []store.Gate{g})
	if err != nil {
		return api.Gate{}, err
	}
	return list[0], nil
}

// find finds a gate of a project.
func (s *Gates) find(ctx context.Context, project string, id record.GateID) (store.Gate, error) {
	g, err := s.Store.GateByID(ctx, id)
	if err == nil && g.Project != project {
		err = store.ErrNotFound
	}
	return g, ground.Known(err, "gate %d of %s", id, project)
}

// OfRun tells of the last gate of each job of a run, by the job.
func (s *Gates) OfRun(ctx context.Context, run record.RunID) (map[record.JobID]api.Gate, error) {
	gates, err := s.Store.GatesOf(ctx, run)
	if err != nil {
		return nil, err
	}
	list, err := s.told(ctx, gates)
	by := map[record.JobID]api.Gate{}
	for i, g := range list {
		by[gates[i].JobID] = g
	}
	return by, err
}

// Filter narrows a list of gates.
type Filter struct {
	Project string
	Open    bool
	Mine    bool // those that whoever asks may answer
	Before  record.GateID
	Limit   int
}

// List lists the gates of the projects that one may see, newest first.
func (s *Gates) List(ctx context.Context, f Filter) (page api.GatePage, err error) {
	page.Gates = []api.Gate{}
	wanted := store.GateFilter{Open: f.Open || f.Mine, Before: f.Before, Limit: f.Limit + 1}
	if f.Project != "" {
		p, err := s.VisibleProject(ctx, f.Project)
		if err != nil {
			return page, err
		}
		wanted.Projects = []record.ProjectID{p.ID}
	} else {
		ids, all, err := s.Visible(ctx)
		if err != nil {
			return page, err
		}
		if !all {
			wanted.Projects = append([]record.ProjectID{}, ids...)
		}
	}
	for { // of those that one may answer a page may be found only after several of others
		gates, err := s.Store.Gates(ctx, wanted)
		if err != nil {
			return page, err
		}
		more := len(gates) == wanted.Limit
		if more {
			gates = gates[:wanted.Limit-1]
		}
		list, err := s.told(ctx, gates)
		if err != nil {
			return page, err
		}
		for i, g := range list {
			if f.Mine && g.MayNot != "" {
				continue
			}
			page.Gates = append(page.Gates, g)
			if len(page.Gates) == f.Limit && (more || i < len(list)-1) {
				page.Next = g.ID
				return page, nil
			}
		}
		if !more {
			return page, nil
		}
		wanted.Before = gates[len(gates)-1].ID
	}
}

// told is how gates are told to whoever asks.
func (s *Gates) told(ctx context.Context, gates []store.Gate) ([]api.Gate, error) {
	ids := make([]record.GateID, len(gates))
	for i, g := range gates {
		ids[i] = g.ID
	}
	said, err := s.Store.Answers(ctx, ids)
	if err != nil {
		return nil, err
	}
	answers := map[record.GateID][]api.Answer{}
	for _, a := range said {
		answers[a.GateID] = append(answers[a.GateID], api.Answer{By: a.Name, Yes: a.Yes, Comment: a.Comment, At: a.At})
	}
	asks := someone(ground.WhoAsks(ctx))
	out := make([]api.Gate, len(gates))
	for i, g := range gates {
		a := g.Ask.V
		out[i] = api.Gate{ID: g.ID, Project: g.Project, Run: g.Run, Pipeline: g.Pipeline, Job: g.Job,
			Question: a.Question, Who: a.Who, Count: a.Yeses(), NotStarter: a.NotStarter, Asked: g.Asked, Until: g.Until,
			Unanswered: a.Unanswered, Outcome: g.Outcome, Ended: g.Ended, Answers: answers[g.ID]}
		if out[i].Answers == nil {
			out[i].Answers = []api.Answer{}
		}
		if g.Outcome != "" {
			out[i].MayNot = over(g)
			continue
		}
		if out[i].MayNot, err = asks.mayNot(ctx, s.Store.Q, g); err != nil {
			return nil, err
		}
	}
	return out, nil
}
