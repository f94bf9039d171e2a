package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

const (
	// lookAgain is when an outlet is asked again how something stands, or that is away and does not say when it is back.
	lookAgain = 5 * time.Second
	// soon is when there is more to do now.
	soon = time.Millisecond
	// tellEvery is how often is noted how much has been sent.
	tellEvery = 500 * time.Millisecond
)

// due goes on with a publication as far as it comes.
func (s *Publish) due(ctx context.Context, of releases.PublicationDue) error {
	ctx = ground.AsItself(ctx)
	if _, err := s.Store.PublicationByID(ctx, of.Publication); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil // its project is gone
		}
		return err
	}
	if err := s.Store.HoldPublication(ctx, of.Publication, ground.HoldFor); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return ground.InAWhile(lookAgain) // another server has it in hand
		}
		return err
	}
	p, err := s.Store.PublicationByID(ctx, of.Publication)
	if err != nil {
		return err
	}
	letHold := ground.Holding(ctx, func(ctx context.Context) error {
		return s.Store.GoOnHolding(ctx, p.ID, ground.HoldFor)
	})
	// Of one that is on its way there is work that looks again and again; what only wakes it does so once.
	looked := of.Wake && (p.State == publication.Prepared || p.State == publication.Sending || p.State.Waits())
	again, err := s.goOn(ctx, p)
	letHold()
	away, trouble := (*outlet.Away)(nil), ""
	switch {
	case errors.As(err, &away):
		again, err, trouble = cmp.Or(away.After, lookAgain), nil, away.Why.Error()
	case err != nil && (ground.Away(err) != "" || ctx.Err() != nil):
		again, err = lookAgain, nil
	}
	if letGo := s.Store.LetPublicationGo(context.WithoutCancel(ctx), p.ID, trouble); err == nil {
		err = letGo
	}
	if err == nil && again > 0 && !(looked && trouble == "" && again > soon) {
		return ground.InAWhile(again)
	}
	return err
}

// goOn does what is to be done next. again says when to look again; 0 when nothing more will happen by itself.
func (s *Publish) goOn(ctx context.Context, p store.Publication) (again time.Duration, err error) {
	o, err := s.Store.OutletByID(ctx, p.OutletID)
	if err != nil {
		return 0, err
	}
	out, done, err := s.open(p.Project, o)
	if err != nil {
		return 0, err
	}
	defer done()
	if at, share := nextStage(p); p.Wants == "" && share > 0 && !time.Now().Before(at) {
		if p, err = s.raise(ctx, p, share); err != nil {
			return 0, err
		}
	}
	if p.Wants != "" {
		return s.obey(ctx, out, o, p)
	}
	switch {
	case p.State == publication.Prepared, p.State == publication.Sending:
		return s.bring(ctx, out, o, p)
	case p.Ref != "": // also what is out, when its outlet has something new to tell
		return s.look(ctx, out, p)
	}
	return 0, nil
}

// bring sends what the outlet misses nothing for.
func (s *Publish) bring(ctx context.Context, out outlet.Outlet, o store.Outlet, p store.Publication) (
	again time.Duration, err error) {
	r, err := s.Store.ReleaseByID(ctx, p.ReleaseID)
	if err != nil {
		return 0, err
	}
	if r.Withdrawn != nil {
		p.Wants = wantWithdraw
		return s.obey(ctx, out, o, p)
	}
	offer, err := s.offer(ctx, r, o, p)
	if err != nil {
		return 0, err
	}
	if p.State == publication.Prepared {
		missing, err := out.Missing(ctx, offer)
		if err != nil {
			return 0, err
		}
		now, err := out.Now(ctx, offer)
		if err == nil {
			err = s.learn(ctx, p.Project, offer, now)
		}
		if err != nil {
			return 0, err
		}
		if len(missing) > 0 {
			return 0, s.refused(ctx, p, reasonsOf(missing))
		}
		err = s.change(ctx, p, func(p *store.Publication) (note string) { p.State = publication.Sending; return "" })
		if err != nil {
			return 0, err
		}
		p.State = publication.Sending
	}
	sending, stop := context.WithCancel(ctx)
	defer stop()
	told := time.Time{}
	ref, err := out.Bring(sending, offer, func(bytes int64) {
		if time.Since(told) < tellEvery {
			return
		}
		told = time.Now()
		if wants, err := s.Store.NoteSent(ctx, p.ID, bytes); err == nil && wants == "withdraw" {
			stop() // it is not to get there
		}
	})
	refusal := (*outlet.Refusal)(nil)
	switch {
	case errors.As(err, &refusal):
		return 0, s.refused(ctx, p, refusal.Reasons)
	case err != nil && sending.Err() != nil && ctx.Err() == nil:
		return soon, nil // to do what is wanted
	case err != nil:
		return 0, err
	}
	p.Ref, p.Sent = ref, p.Total
	return s.look(ctx, out, p)
}

func reasonsOf(missing []publication.Missing) (list []string) {
	for _, m := range missing {
		list = append(list, m.What+". "+m.Mend)
	}
	return list
}

func (s *Publish) refused(ctx context.Context, p store.Publication, reasons []string) error {
	return s.change(ctx, p, func(p *store.Publication) (note string) {
		p.State, p.Reasons.V = publication.Refused, reasons
		return reasons[0]
	})
}

// look asks the outlet how a publication stands, and notes what has changed.
func (s *Publish) look(ctx context.Context, out outlet.Outlet, p store.Publication) (again time.Duration, err error) {
	stands, err := out.Stands(ctx, p.Ref)
	if err != nil {
		return 0, err
	}
	first := ""
	if len(stands.Reasons) > 0 {
		first = stands.Reasons[0]
	}
	if p.State.Given() && (stands.State.Waits() || stands.State == publication.Sending) {
		return 0, &outlet.Away{Why: fmt.Errorf("it says that it is %s, which it has given out already", stands.State)}
	}
	ref, sent, was := p.Ref, p.Sent, p
	err = s.change(ctx, p, func(p *store.Publication) (note string) {
		p.State, p.OutTo, p.Reasons.V, p.Ref, p.Sent = stands.State, stands.Share, stands.Reasons, ref, sent
		p.Asks.V = stands.Asks
		if p.OutTo != was.OutTo || p.State != was.State {
			now := time.Now()
			p.SharedAt = &now
		}
		return first
	})
	if stands.State.Waits() || stands.State == publication.Sending {
		again = cmp.Or(stands.Again, lookAgain)
	}
	return again, err
}

// change notes that a publication stands elsewhere, and tells whom it concerns. Nothing is told when it stands where it
// stood.
func (s *Publish) change(ctx context.Context, was store.Publication,
	to func(p *store.Publication) (note string)) error {
	return s.Tx(ctx, func(q ground.Q) error {
		p, err := q.LockPublication(ctx, was.ID)
		if err != nil {
			return err
		}
		before := p
		note := to(&p)
		p.Stages.V = quantity.StagesAbove(p.Stages.V, p.OutTo)
		p.Reasons.V, p.Asks.V = ground.NonNil(p.Reasons.V), ground.NonNil(p.Asks.V)
		if err := q.SetPublication(ctx, p); err != nil {
			return err
		}
		if err := s.tellKeepers(ctx, q, before, p); err != nil {
			return err
		}
		if before.State == p.State && before.OutTo == p.OutTo {
			return nil
		}
		step := store.PublicationStep{Publication: p.ID, State: p.State, OutTo: p.OutTo, Note: note}
		if err := q.AddPublicationStep(ctx, step); err != nil {
			return err
		}
		if at, share := nextStage(p); share > 0 {
			if err := q.PutOffUntil(ctx, at, releases.PublicationDue{Publication: p.ID, Wake: true}); err != nil {
				return err
			}
		}
		if p.State == publication.Out {
			if err := s.lookAtEarlier(ctx, q, p); err != nil {
				return err
			}
		}
		if p.Attempt != nil {
			if err := q.PutOff(ctx, work.OwnDue{Attempt: *p.Attempt, Wake: true}); err != nil {
				return err
			}
		}
		run, err := q.RunByID(ctx, p.RunID)
		if err != nil {
			return err
		}
		return q.Tell(ctx, ground.OfRun(fact.PublicationChange, run))
	})
}

// lookAtEarlier has those looked at that people got from a channel until now: where one version takes the place of
// another, they get it no more.
func (s *Publish) lookAtEarlier(ctx context.Context, q ground.Q, p store.Publication) error {
	earlier, err := q.GivenInChannel(ctx, p)
	for _, id := range earlier {
		if err == nil {
			err = q.PutOff(ctx, releases.PublicationDue{Publication: id, Wake: true})
		}
	}
	return err
}

// nextStage tells when a share is raised by itself next, and to what; share is 0 when it is not.
func nextStage(p store.Publication) (at time.Time, share int) {
	if p.State != publication.Shared || len(p.Stages.V) == 0 || p.SharedAt == nil {
		return at, 0
	}
	return p.SharedAt.Add(p.Stages.V[0].After), p.Stages.V[0].Share
}

// raise wants the next share, as a person would.
func (s *Publish) raise(ctx context.Context, p store.Publication, share int) (store.Publication, error) {
	err := s.Tx(ctx, func(q ground.Q) error {
		now, err := q.LockPublication(ctx, p.ID)
		if err != nil || now.Wants != "" || now.State != publication.Shared {
			return err // somebody wants something else by now
		}
		now.Wants, now.Share = wantShare, share
		p = now
		if err := q.SetPublication(ctx, now); err != nil {
			return err
		}
		return q.AddPublicationStep(ctx, store.PublicationStep{Publication: p.ID, State: p.State, OutTo: p.OutTo,
			Note: fmt.Sprintf("its time has come to go to %d %%", share)})
	})
	return p, err
}
