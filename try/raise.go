package try

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/source"
)

// versions stand in for a service's ledger: what comes next is told from the files and the repository's tags, and is
// kept nowhere.
type versions struct {
	tree  *source.WorkTree
	tag   string
	given map[string]api.Raised // by app
}

// Raise gives the next version as this checkout knows of it. It does not count.
func (d *desk) Raise(ctx context.Context, _ record.AttemptID, in api.RaiseRequest) (api.Raised, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	v := d.versions
	if had, again := v.given[in.App]; again {
		return had, nil
	}
	known := version.Known{Tag: v.tag, Today: time.Now()}
	if in.Name != "" {
		var err error
		if known.Now, err = version.Parse(in.Name); err != nil {
			return api.Raised{}, err
		}
	}
	if in.By == version.ByCommits {
		messages, err := v.tree.SinceTag(ctx, source.Since{Not: v.tag})
		if err != nil {
			return api.Raised{}, err
		}
		known.Changes = version.ReadChanges(messages)
	}
	name, why, err := version.Wish{By: in.By, Pre: in.Pre, To: in.To}.Name(known)
	if err != nil {
		return api.Raised{}, err
	}
	n := version.Numbering{Scheme: version.Scheme(in.Scheme), Digits: in.Digits, Span: in.Span}
	last := map[string]version.BuildNumber{}
	for _, p := range in.Platforms {
		last[p] = version.BuildNumber(in.Builds[p])
	}
	builds, err := n.NextOf(last, in.Each, name, time.Now())
	if err != nil {
		return api.Raised{}, err
	}
	out := api.Raised{App: in.App, Name: name.String(), Builds: builds, Why: why}
	out.Env = out.Variables()
	v.given[in.App] = out
	return out, nil
}

// Land lands nothing: a trial changes no repository.
func (d *desk) Land(context.Context, record.AttemptID, api.LandRequest) (api.Landed, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.versions.given) == 0 {
		return api.Landed{}, errors.New("nothing was raised, so that nothing lands")
	}
	return api.Landed{Note: "a trial lands nothing; a run would commit what was raised, and push it"}, nil
}

// raisedBefore lists what jobs before one have raised.
func (t *trial) raisedBefore(job string) (list []api.Raised) {
	t.desk.mu.Lock()
	defer t.desk.mu.Unlock()
	for app, given := range t.desk.versions.given {
		if t.Pipeline.RaisedBefore(job, app) {
			list = append(list, given)
		}
	}
	return list
}
