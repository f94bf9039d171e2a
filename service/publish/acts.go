package publish

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/store"
)

// What people may want of a publication.
const (
	wantShare    = "share"
	wantHalt     = "halt"
	wantWithdraw = "withdraw"
)

// Share wants a release to go to so many of a hundred people; what was halted goes on. A share is never made smaller:
// who has it, has it.
func (s *Publish) Share(ctx context.Context, project string, id record.PublicationID, percent int) error {
	return s.want(ctx, project, id, wantShare, func(p *store.Publication) error {
		if p.State != publication.Accepted && !p.State.Given() {
			return fmt.Errorf("it is %s, and a share of it is %w yet", p.State, ground.ErrInvalid)
		}
		if percent < p.OutTo {
			return fmt.Errorf("%d %% have it already, and fewer are %w: halt it, or withdraw it", p.OutTo, ground.ErrInvalid)
		}
		p.Share = percent
		return nil
	})
}

// Halt keeps further people from getting it.
func (s *Publish) Halt(ctx context.Context, project string, id record.PublicationID) error {
	return s.want(ctx, project, id, wantHalt, func(p *store.Publication) error {
		if p.State != publication.Shared && p.State != publication.Out {
			return fmt.Errorf("it is %s, and halting it is %w: nobody gets it now", p.State, ground.ErrInvalid)
		}
		return nil
	})
}

// Withdraw takes it back, wherever it is on its way.
func (s *Publish) Withdraw(ctx context.Context, project string, id record.PublicationID) error {
	return s.want(ctx, project, id, wantWithdraw, func(p *store.Publication) error {
		if p.State == publication.Refused || p.State == publication.Withdrawn {
			return fmt.Errorf("it is %s, and withdrawing it is %w", p.State, ground.ErrInvalid)
		}
		return nil
	})
}

// Abandon takes back what a job has begun that is stopped, as far as it is not where it is to go.
func (s *Publish) Abandon(ctx context.Context, attempt record.AttemptID) error {
	return s.Tx(ctx, func(q ground.Q) error {
		begun, err := q.WithdrawBegun(ctx, attempt)
		for _, id := range begun {
			if err == nil {
				err = q.PutOff(ctx, releases.PublicationDue{Publication: id, Wake: true})
			}
		}
		return err
	})
}

// want notes what a person wants of a publication; it is done as background work.
func (s *Publish) want(ctx context.Context, project string, id record.PublicationID, what string,
	may func(p *store.Publication) error) error {
	return s.Tx(ctx, func(q ground.Q) error {
		p, err := q.LockPublication(ctx, id)
		if err == nil && p.Project != project {
			err = store.ErrNotFound
		}
		if err != nil {
			return ground.Known(err, "publication %d of %s", id, project)
		}
		if err := may(&p); err != nil {
			return err
		}
		p.Wants = what
		if err := q.SetPublication(ctx, p); err != nil {
			return err
		}
		told := fact.Fact{Kind: fact.PublicationWish, Project: project, Subject: p.App + " " + p.Name,
			After: map[string]any{"outlet": p.Outlet, "channel": p.Channel, "wants": what, "share": p.Share}}
		if err := q.Tell(ctx, told); err != nil {
			return err
		}
		who := store.PublicationStep{Publication: id, State: p.State, OutTo: p.OutTo, By: ground.WhoAsks(ctx).Name,
			Note: wish(what, p.Share)}
		if err := q.AddPublicationStep(ctx, who); err != nil {
			return err
		}
		return q.PutOff(ctx, releases.PublicationDue{Publication: id, Wake: true})
	})
}

// wish is how the story tells what somebody wanted.
func wish(what string, share int) string {
	if what == wantShare {
		return fmt.Sprintf("wants it out to %d %%", share)
	}
	return "wants to " + what + " it"
}

// obey does what a person wants of a publication.
func (s *Publish) obey(ctx context.Context, out outlet.Outlet, o store.Outlet, p store.Publication) (
	again time.Duration, err error) {
	if p.Ref == "" && p.State == publication.Sending {
		if p.Ref, err = s.sent(ctx, out, o, p); err != nil {
			return 0, err
		}
	}
	if p.Ref != "" {
		switch p.Wants {
		case wantShare:
			err = out.Share(ctx, p.Ref, p.Share)
		case wantHalt:
			err = out.Halt(ctx, p.Ref)
		case wantWithdraw:
			err = out.TakeBack(ctx, p.Ref)
		}
	}
	refusal := (*outlet.Refusal)(nil)
	note := ""
	if errors.As(err, &refusal) {
		note, err = "not done: "+refusal.Error(), nil
	}
	if err != nil {
		return 0, err
	}
	err = s.change(ctx, p, func(now *store.Publication) (note string) {
		if now.Wants == p.Wants { // or something else is wanted by now
			now.Wants = ""
		}
		if p.Ref == "" && p.Wants == wantWithdraw {
			now.State = publication.Withdrawn
		}
		return ""
	})
	if err == nil && note != "" {
		err = s.Store.AddPublicationStep(ctx, store.PublicationStep{Publication: p.ID, State: p.State, OutTo: p.OutTo,
			Note: note})
	}
	if err != nil || p.Ref == "" {
		return soon, err
	}
	return s.look(ctx, out, p)
}

// sent finds what has got there, though a crash kept that from being noted.
func (s *Publish) sent(ctx context.Context, out outlet.Outlet, o store.Outlet, p store.Publication) (ref string,
	err error) {
	r, err := s.Store.ReleaseByID(ctx, p.ReleaseID)
	if err != nil {
		return "", err
	}
	offer, err := s.offer(ctx, r, o, p)
	if err != nil {
		return "", err
	}
	return out.Sent(ctx, offer)
}

// publicationOf is a publication as it is told.
func publicationOf(p store.Publication) api.Publication {
	out := api.Publication{ID: p.ID, Project: p.Project, App: p.App, Name: p.Name, Run: p.Run, Outlet: p.Outlet,
		Channel: p.Channel, Share: p.Share, State: p.State, OutTo: p.OutTo, Reasons: ground.NonNil(p.Reasons.V),
		Asks: ground.NonNil(p.Asks.V), Hold: p.Hold, Trouble: p.Trouble, Wants: p.Wants, Sent: p.Sent, Total: p.Total,
		By: p.By, Begun: p.Begun}
	if at, share := nextStage(p); share > 0 {
		out.NextShare, out.NextAt = share, &at
	}
	return out
}

// List lists the publications of a project, newest first.
func (s *Publish) List(ctx context.Context, project string, f api.PublicationFilter) (page api.PublicationPage,
	err error) {
	page.Publications = []api.Publication{}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return page, err
	}
	list, err := s.Store.Publications(ctx, p.ID, store.PublicationFilter{Release: f.Release, Outlet: f.Outlet,
		State: f.State, Before: f.Before, Limit: f.Limit + 1})
	for i, one := range list {
		if i == f.Limit {
			page.Next = list[i-1].ID
			break
		}
		page.Publications = append(page.Publications, publicationOf(one))
	}
	return page, err
}
