package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// MaxPushWait is the longest that the answer to a push waits for its runs.
const MaxPushWait = 10 * time.Second

// PushFilter narrows a list of events.
type PushFilter = store.PushFilter

// Pushes lists a project's events, newest first.
func (s *Intake) Pushes(ctx context.Context, project string, f PushFilter) (api.PushPage, error) {
	page := api.PushPage{Pushes: []api.Push{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return page, err
	}
	f.Limit++ // one more tells whether there is another page
	list, err := s.Store.Pushes(ctx, p.ID, f)
	if err != nil {
		return page, err
	}
	if len(list) == f.Limit {
		list = list[:f.Limit-1]
		page.Next = list[len(list)-1].ID
	}
	ids := make([]record.PushID, len(list))
	for i, push := range list {
		ids[i] = push.ID
	}
	runs, err := s.Store.RunsOfPushes(ctx, ids)
	for _, push := range list {
		page.Pushes = append(page.Pushes, s.pushOf(push, runs[push.ID]))
	}
	return page, err
}

// RetryPush plans an event again that was set aside.
func (s *Intake) RetryPush(ctx context.Context, project string, id record.PushID) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		if err := q.RetryPush(ctx, p.ID, id); err != nil {
			return ground.Known(err, "push %d of %s that was set aside", id, project)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.PushRetry, Project: project, Subject: fmt.Sprint(id)})
	})
	if err == nil {
		s.planSoon(p.ID, id)
	}
	return err
}

// maxRefsTold is how many refs of a push are told.
const maxRefsTold = 50

func (s *Intake) pushOf(p store.Push, runs []store.Run) api.Push {
	out := api.Push{ID: p.ID, Kind: "push", Refs: []api.PushRef{}, Received: p.Received, State: "waiting", Tries: p.Tries,
		Note: p.Note, Runs: s.pushRuns(runs)}
	switch {
	case p.Planned != nil:
		out.State = "planned"
	case p.SetAside != nil:
		out.State = "set-aside"
	}
	var e Spooled
	if json.Unmarshal(p.Body, &e) != nil {
		return out
	}
	switch {
	case e.Push != nil:
		for _, u := range e.Push.Updates[:min(len(e.Push.Updates), maxRefsTold)] {
			out.Refs = append(out.Refs, api.PushRef{Ref: u.Ref, Commit: u.After})
		}
	case e.Proposal != nil:
		out.Kind, out.About = "proposal", fmt.Sprintf("%s into %s", e.Proposal.Proposal, e.Proposal.Target)
		out.Refs = append(out.Refs, api.PushRef{Ref: e.Proposal.Ref, Commit: e.Proposal.Commit})
	case e.Ended != nil:
		out.Kind, out.About = "pipeline", "a run ended: "+string(e.Ended.State)
	case e.Due != nil:
		out.Kind, out.About = "schedule", fmt.Sprintf("%s of %s", e.Due.Name, e.Due.Pipeline)
	}
	return out
}

func (s *Intake) pushRuns(runs []store.Run) []api.PushRun {
	out := make([]api.PushRun, len(runs))
	for i, r := range runs {
		out[i] = api.PushRun{Number: r.Number, Pipeline: r.Pipeline, State: r.State, Reason: r.Reason,
			Page: fmt.Sprintf("%s/%s/%d", s.public, r.Project, r.Number)}
	}
	return out
}

// cameOf tells what has come of a push that is being planned, after waiting a while for that. That nothing can be told
// is no error: it is recorded, and what comes of it can be asked for later.
func (s *Intake) cameOf(ctx context.Context, id record.PushID, tried <-chan struct{},
	wait time.Duration) api.PushAccepted {
	a := api.PushAccepted{ID: id, Runs: []api.PushRun{}}
	if wait <= 0 {
		return a
	}
	select {
	case <-tried:
	case <-time.After(min(wait, MaxPushWait)):
		return a
	case <-ctx.Done():
		return a
	}
	push, err := s.Store.PushByID(ctx, id)
	if err != nil {
		return a
	}
	runs, err := s.Store.RunsOfPushes(ctx, []record.PushID{id})
	if err != nil {
		return a
	}
	a.Planned, a.Runs = push.Planned != nil || push.SetAside != nil, s.pushRuns(runs[id])
	if push.Planned == nil {
		a.Note = push.Note
	}
	return a
}
