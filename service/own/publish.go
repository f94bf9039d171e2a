package own

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/store"
)

// publishAgain is when a publication is looked at again that has told of nothing meanwhile.
const publishAgain = time.Minute

// publish puts what the run has released on its way, and waits until it is as far as the step wants.
func (j *job) publish(ctx context.Context, i int, do *action.Publish) (again time.Duration, err error) {
	p, err := j.Store.PublicationOfStep(ctx, j.attempt.ID, i)
	if errors.Is(err, store.ErrNotFound) {
		p, err = j.begin(ctx, i, do)
	}
	if err != nil {
		return 0, err
	}
	if j.log.next == j.steps[i].FirstLine {
		err := j.say(ctx, i, "%s %s goes to %s, channel %s, to %d %% of people: %s", p.App, p.Name, p.Outlet, p.Channel,
			p.Share, quantity.Bytes(p.Total))
		if err != nil {
			return 0, err
		}
	}
	switch {
	case p.State == publication.Refused:
		return 0, fmt.Errorf("%s does not take it: %s", p.Outlet, strings.Join(p.Reasons.V, "; "))
	case p.State == publication.Withdrawn:
		return 0, fmt.Errorf("it was withdrawn on its way to %s", p.Outlet)
	case reached(p.State, do.Until):
		return 0, j.say(ctx, i, "%s: %s", p.Outlet, wordOf(p))
	}
	return publishAgain, nil
}

// begin puts what the run has released on its way.
func (j *job) begin(ctx context.Context, i int, do *action.Publish) (p store.Publication, err error) {
	r, err := j.releaseOf(ctx, do.App)
	if err != nil {
		return p, err
	}
	return j.publications.Begin(ctx, publish.Wish{Release: r, Outlet: do.To, Channel: do.Channel, Share: do.Share,
		Hold: do.Hold, Note: do.Note, Raise: do.Raise,
		Attempt: &j.attempt.ID, Step: i})
}

// reached tells whether a publication is as far as a step wants.
func reached(s publication.State, until string) bool {
	switch until {
	case action.UntilSent:
		return s != publication.Prepared && s != publication.Sending
	case action.UntilAccepted:
		return s == publication.Accepted || s.Given()
	}
	return s.Given()
}

func wordOf(p store.Publication) string {
	if p.State.Given() {
		return fmt.Sprintf("out to %d %%", p.OutTo)
	}
	return string(p.State)
}

// releaseOf finds the release of an app that the run has made.
func (j *job) releaseOf(ctx context.Context, app string) (r store.Release, err error) {
	list, err := j.Store.ReleasesOf(ctx, j.run.ID)
	if err != nil {
		return r, err
	}
	var found []store.Release
	for _, r := range list {
		if r.Withdrawn == nil && (app == "" || r.App == app) {
			found = append(found, r)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return r, fmt.Errorf("the run has released nothing of it: %w; a step release comes first", ground.ErrInvalid)
	}
	return r, fmt.Errorf("the run has released several apps: %w; say which, by app", ground.ErrInvalid)
}
