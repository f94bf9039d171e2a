package testers

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/store"
)

// DefaultDays is how long testers may have a release, where nothing else is said.
const DefaultDays = 90

// Groups is the outlet whose channels are groups of testers.
type Groups struct {
	*Testers
	of store.Outlet
}

// Groups opens it.
func (s *Testers) Groups(of store.Outlet) *Groups { return &Groups{s, of} }

// Try implements outlet.Outlet.
func (g *Groups) Try(context.Context) error {
	if !g.letters.Sends() {
		return errors.New("the service sends no mail, so that nobody would be told: piston serve, with --mail-server")
	}
	return nil
}

// Now implements outlet.Outlet.
func (g *Groups) Now(ctx context.Context, o outlet.Offer) (now publication.Standing, err error) {
	now.Out = []publication.Version{}
	list, err := g.Store.TrialsIn(ctx, g.of.ID, o.Channel, 3)
	if err != nil {
		return now, err
	}
	for _, t := range list {
		if !t.Open(time.Now()) {
			continue
		}
		r, err := g.Store.ReleaseByID(ctx, t.ReleaseID)
		if err != nil {
			return now, err
		}
		now.Out = append(now.Out, publication.Version{Name: r.Name, Builds: r.Builds.V, Share: 100, Since: t.Begun})
	}
	return now, nil
}

// installable tells what testers can install from a page: an app bundle is for a store.
func installable(kind string) bool { return kind == "apk" || kind == "ipa" }

// Missing implements outlet.Outlet.
func (g *Groups) Missing(ctx context.Context, o outlet.Offer) (list []publication.Missing, err error) {
	missing := func(mend, what string, args ...any) {
		list = append(list, publication.Missing{What: fmt.Sprintf(what, args...), Mend: mend})
	}
	if err := g.Try(ctx); err != nil {
		missing("Start the service with --mail-server.", "the service sends no mail, so that nobody would be told")
	}
	n, err := g.Store.GroupSize(ctx, g.of.ProjectID, o.Channel)
	if err != nil {
		return nil, err
	}
	if n == 0 {
		missing("Put somebody into it: piston tester add.", "there is nobody in the group %s", o.Channel)
	}
	if !slices.ContainsFunc(o.Packages, func(p outlet.Package) bool { return installable(p.Kind) }) {
		missing("Keep an APK or an IPA, too.", "the release has nothing that can be installed from a page")
	}
	if o.Share != 100 || o.Hold {
		missing("Leave share and hold out, or make a smaller group.", "all of a group get it, and at once")
	}
	return list, nil
}

// Bring implements outlet.Outlet: the release stands on the pages, and the mails are queued, or neither.
func (g *Groups) Bring(ctx context.Context, o outlet.Offer, sent func(int64)) (ref string, err error) {
	days := g.of.Settings.V.Days
	if days == 0 {
		days = DefaultDays
	}
	t := store.Trial{OutletID: g.of.ID, ReleaseID: o.Release, Group: o.Channel, Key: o.Key, Note: o.Note,
		Ends: time.Now().Add(time.Duration(days) * day)}
	err = g.Tx(ctx, func(q ground.Q) error {
		is, err := q.AddTrial(ctx, &t)
		if err != nil || !is {
			return err
		}
		return g.tell(ctx, q, t, o)
	})
	sent(o.Size())
	return fmt.Sprint(t.ID), err
}

// tell writes to all of a group who want mail, each with the link of their own.
func (g *Groups) tell(ctx context.Context, q ground.Q, t store.Trial, o outlet.Offer) error {
	r, err := q.ReleaseByID(ctx, o.Release)
	if err != nil {
		return err
	}
	notes, err := g.releases.Notes(ctx, r)
	if err != nil {
		return err
	}
	lines := []string{fmt.Sprintf("Version %s is there to try.", o.Name)}
	if o.Note != "" {
		lines = append(lines, "What to look at: "+o.Note)
	}
	for _, n := range notes {
		if n.Main || len(notes) == 1 {
			lines = append(lines, n.Text)
		}
	}
	people, err := q.GroupTesters(ctx, g.of.ProjectID, t.Group)
	all := make([]letters.Addressed, len(people))
	for i, p := range people {
		at := g.letters.Link(Path(p.Link))
		all[i] = letters.Addressed{Key: fmt.Sprintf("trial %d %d", t.ID, p.ID), To: p.Address, Stop: at + "/stop",
			Letter: letter.New(letter.Content{Subject: fmt.Sprintf("%s %s to try", o.App, o.Name),
				Lines: slices.Clone(lines), Action: "Get it, and say what you think", Link: at,
				Foot: "You get this as a tester of " + o.App + ". The link is yours: who has it can get what you get. " +
					"No more of these: " + at + "/stop"})}
	}
	if err == nil {
		err = g.letters.WriteAll(ctx, q, all)
	}
	return err
}

// Sent implements outlet.Outlet.
func (g *Groups) Sent(ctx context.Context, o outlet.Offer) (string, error) {
	t, err := g.Store.TrialByKey(ctx, o.Key)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return fmt.Sprint(t.ID), err
}

// Stands implements outlet.Outlet.
func (g *Groups) Stands(ctx context.Context, ref string) (st publication.Stands, err error) {
	t, err := g.trial(ctx, ref)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return publication.Stands{State: publication.Withdrawn}, nil
	case err != nil:
		return st, err
	case !t.Open(time.Now()):
		return publication.Stands{State: publication.Halted, Share: 100}, nil
	}
	return publication.Stands{State: publication.Out, Share: 100}, nil
}

func (g *Groups) trial(ctx context.Context, ref string) (store.Trial, error) {
	id, err := number(ref)
	if err != nil {
		return store.Trial{}, err
	}
	return g.Store.TrialByID(ctx, id)
}

// Share implements outlet.Outlet.
func (g *Groups) Share(ctx context.Context, ref string, percent int) error {
	if percent != 100 {
		return &outlet.Refusal{Reasons: []string{outlet.ErrNoShare.Error()}}
	}
	t, err := g.trial(ctx, ref)
	if err == nil && !time.Now().Before(t.Ends) {
		return &outlet.Refusal{Reasons: []string{"its time for testers is over; publish it again"}}
	}
	if err == nil {
		err = g.Store.HaltTrial(ctx, t.ID, false)
	}
	return err
}

// Halt implements outlet.Outlet.
func (g *Groups) Halt(ctx context.Context, ref string) error {
	id, err := number(ref)
	if err == nil {
		err = g.Store.HaltTrial(ctx, id, true)
	}
	return err
}

// TakeBack implements outlet.Outlet.
func (g *Groups) TakeBack(ctx context.Context, ref string) error {
	id, err := number(ref)
	if err == nil {
		err = g.Store.DropTrial(ctx, id)
	}
	return err
}
