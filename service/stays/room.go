// Package stays is the room of workspaces that stay after their job has ended, and of the ways into them. Whoever may
// start a job may look around in it: in the same sandbox, as the same user, without secrets unless a keeper grants them
// for that one shell. What is shown is recorded. The service opens nothing by itself: the runner that has the workspace
// asks whether somebody wants in, and comes to meet them here.
package stays

import (
	"context"
	"errors"
	"fmt"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/secrets"
	"gentlepiston.example/piston/store"
)

// Stays is the room.
type Stays struct {
	*ground.Ground
	secrets *secrets.Secrets
}

// New makes it.
func New(g *ground.Ground, s *secrets.Secrets) *Stays { return &Stays{g, s} }

// Background starts its loops.
func (s *Stays) Background() {
	s.Loop(ground.Upkeep{What: "ending stays", Every: 5 * time.Second, Do: s.endOver})
}

// lostAfter is how long nothing may be heard of a workspace that stays before it is taken for gone.
const lostAfter = time.Minute

// endOver ends the stays whose time is over, and those whose runner is gone.
func (s *Stays) endOver(ctx context.Context) error {
	list, err := s.Store.StaysOver(ctx, lostAfter)
	if err != nil {
		return err
	}
	for _, one := range list {
		why := "its time is over"
		if one.Until.After(time.Now()) {
			why = fmt.Sprintf("runner %s is not heard of any more", one.Runner)
		}
		// Another server may have done it in the same moment.
		if err := s.Store.EndStay(ctx, one.AttemptID, why); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	if len(list) > 0 {
		s.Stream.Wake(ground.StaysTopic)
	}
	return s.Store.DropStays(ctx)
}

// find finds the workspace of a run's job that stays, or is to.
func (s *Stays) find(ctx context.Context, project string, number record.RunNumber, job string) (store.Stay, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return store.Stay{}, err
	}
	found, err := s.Store.StayOfJob(ctx, run.ID, job)
	return found, ground.Known(err, "a workspace of job %s of run %d that stays (stay = \"15m\" in the job, or piston "+
		"stay while it runs, has it do so)", job, number)
}

// Ask has the workspace of a job that is at work stay once that has ended, or one that stays do so for longer.
func (s *Stays) Ask(ctx context.Context, project string, number record.RunNumber, job string, in api.NewStay) (api.Stay,
	error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.Stay{}, err
	}
	long := time.Duration(in.Minutes) * time.Minute
	told := fact.Fact{Kind: fact.StayAsk, Project: project, Subject: subject(job, number),
		After: map[string]any{"minutes": in.Minutes}}
	var of record.AttemptID
	err = s.Acting(ctx, told, func(q ground.Q) error {
		stays, err := q.StayOfJob(ctx, run.ID, job)
		if err == nil && stays.Until != nil {
			of = stays.AttemptID
			return q.ProlongStay(ctx, of, long)
		}
		a, err := q.RunningOfJob(ctx, run.ID, job)
		if err != nil {
			return ground.Known(err, "job %s of run %d at work, or its workspace", job, number)
		}
		of = a.ID
		return q.AskStay(ctx, a, long, ground.WhoAsks(ctx).Name)
	})
	if err != nil {
		return api.Stay{}, err
	}
	one, err := s.Store.StayOf(ctx, of)
	return stayOf(one), err
}

func subject(job string, run record.RunNumber) string { return fmt.Sprintf("%s of run %d", job, run) }

// LetGo has a workspace stay no longer; the shells in it end.
func (s *Stays) LetGo(ctx context.Context, project string, number record.RunNumber, job string) error {
	one, err := s.find(ctx, project, number, job)
	if err != nil {
		return err
	}
	return s.Acting(ctx, fact.Fact{Kind: fact.StayEnd, Project: project, Subject: subject(job, number)},
		func(q ground.Q) error {
			return q.EndStay(ctx, one.AttemptID, "let go by "+ground.WhoAsks(ctx).Name)
		})
}

// List lists workspaces that stay, or are to, of the projects whoever asks may see.
func (s *Stays) List(ctx context.Context, f api.StayFilter) ([]api.Stay, error) {
	of := store.StayFilter{Runner: f.Runner, Over: f.Over, Limit: f.Limit}
	if f.Project != "" {
		p, err := s.VisibleProject(ctx, f.Project)
		if err != nil {
			return nil, err
		}
		of.Projects = []record.ProjectID{p.ID}
	} else if ids, all, err := s.Visible(ctx); err != nil {
		return nil, err
	} else if !all {
		of.Projects = append([]record.ProjectID{}, ids...)
	}
	list, err := s.Store.Stays(ctx, of)
	out := []api.Stay{}
	for _, one := range list {
		out = append(out, stayOf(one))
	}
	return out, err
}

func stayOf(s store.Stay) api.Stay {
	out := api.Stay{Project: s.Project, Run: s.Run, Job: s.Job, Attempt: s.Number, Ended: s.State, Runner: s.Runner,
		State: api.StayStays, Minutes: int(s.ForMs / time.Minute.Milliseconds()), Until: s.Until, By: s.AskedBy,
		Why: s.EndedWhy, Shells: s.Open}
	switch {
	case s.Ended != nil:
		out.State = api.StayOver
	case s.Until == nil:
		out.State = api.StayAsked
	}
	return out
}

// Beat hears from a runner of a workspace that stays, and tells it what is wanted of it: it waits a while for news.
func (s *Stays) Beat(ctx context.Context, attempt record.AttemptID, in api.StayBeat) (api.StayNews, error) {
	if in.Gone != "" {
		err := s.Store.EndStay(ctx, attempt, in.Gone)
		if err == nil {
			s.Stream.Wake(ground.StaysTopic)
		}
		return api.StayNews{Over: true, Shells: []api.ShellWanted{}}, ground.Gone(err, attempt)
	}
	to, err := age.ParseX25519Recipient(in.Recipient)
	if err != nil {
		return api.StayNews{}, fmt.Errorf("the runner's recipient is %w: %w", ground.ErrInvalid, err)
	}
	woken, cancel, err := s.Stream.OnWake(ground.StaysTopic)
	if err != nil {
		return api.StayNews{}, err
	}
	defer cancel()
	deadline := time.After(beatWait)
	for {
		err := s.Store.SeeStay(ctx, attempt, in.Recipient)
		if errors.Is(err, store.ErrNotFound) {
			return api.StayNews{Over: true, Shells: []api.ShellWanted{}}, nil
		}
		if err != nil {
			return api.StayNews{}, err
		}
		news, err := s.news(ctx, attempt, in, to)
		if err != nil || len(news.Shells) > 0 {
			return news, err
		}
		select {
		case <-woken:
			continue
		case <-deadline:
		case <-ctx.Done():
		case <-s.Life.Done():
		}
		return news, nil
	}
}

// Finished tells a runner whether the workspace of an attempt that has ended is to stay.
func (s *Stays) Finished(ctx context.Context, attempt record.AttemptID) (out api.Finished, err error) {
	out.Stays, err = s.Store.IsToStay(ctx, attempt)
	return out, err
}

// beatWait is how long a runner's question is held open for news.
const beatWait = 15 * time.Second
