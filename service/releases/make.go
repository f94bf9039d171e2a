package releases

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/service/versions"
	"gentlepiston.example/piston/store"
)

// ByHand makes a release of what a run has kept that passed.
func (s *Releases) ByHand(ctx context.Context, project string, in api.NewRelease) (out api.ReleaseDetail, err error) {
	run, err := s.FindRun(ctx, project, in.Run)
	if err != nil {
		return out, err
	}
	if run.State != state.Passed {
		return out, ground.Saying(ground.ErrInvalid, "run %d is %s: only what has passed can be released", in.Run, run.State)
	}
	r, err := s.Make(ctx, run, in.App, ground.WhoAsks(ctx).Name)
	if err != nil {
		return out, err
	}
	return s.Release(ctx, project, api.ReleasePath{App: r.App, Name: r.Name})
}

// Make makes a release of what a run has kept; by is who wants it, "" the run itself. The same run makes the same
// release once, however often it is asked.
func (s *Releases) Make(ctx context.Context, run store.Run, app, by string) (r store.Release, err error) {
	if run.Outside || run.Trigger == plan.OnProposal {
		return r, fmt.Errorf("a proposal releases nothing: %w; what it offers is released once it is merged",
			ground.ErrInvalid)
	}
	r, of, err := s.name(ctx, run, app)
	if err != nil {
		return r, err
	}
	r.MadeBy = by
	parts, err := s.parts(ctx, run, r, of)
	if err != nil {
		return r, err
	}
	key := store.ReleaseKey{Project: run.ProjectID, App: r.App, Key: r.Key}
	err = s.Tx(ctx, func(q ground.Q) error {
		if _, err := q.LockRun(ctx, run.ID); err != nil {
			return err
		}
		was, err := q.ReleaseByName(ctx, key)
		switch {
		case err == nil && was.Withdrawn == nil && was.RunID == run.ID:
			r = was
			return nil
		case err == nil && was.Withdrawn == nil:
			return ground.Saying(ground.ErrExists, "%s %s is released already, of run %d; withdraw that release first, or "+
				"raise the version", r.App, r.Name, was.Run)
		case err != nil && !errors.Is(err, store.ErrNotFound):
			return err
		}
		if err := q.AddRelease(ctx, &r, parts); err != nil {
			return ground.Known(err, "a release of %s %s", r.App, r.Name)
		}
		told := ground.OfRun(fact.ReleaseMake, run)
		told.Subject = r.App + " " + r.Name
		told.After = map[string]any{"run": run.Number, "builds": r.Builds.V}
		if err := q.Tell(ctx, told); err != nil {
			return err
		}
		return q.PutOff(ctx, notify.Happened{Project: run.ProjectID, What: news.ReleaseMade,
			Key:     fmt.Sprintf("release %s %s %d", r.App, r.Name, run.ID),
			Subject: fmt.Sprintf("%s %s is a release of %s (run %d)", r.App, r.Name, run.Project, run.Number),
			Path:    fmt.Sprintf("/%s/releases/%s/%s", run.Project, r.App, r.Name),
			Data:    map[string]any{"app": r.App, "name": r.Name, "run": run.Number, "builds": r.Builds.V}})
	})
	return r, err
}

// name finds which version of which app a run has made.
func (s *Releases) name(ctx context.Context, run store.Run, app string) (r store.Release, of *definition.Apps,
	err error) {
	r = store.Release{ProjectID: run.ProjectID, Project: run.Project, RunID: run.ID, Run: run.Number, Commit: run.Commit}
	if of, err = s.versions.AppsAt(ctx, run); err != nil {
		return r, nil, err
	}
	had, err := s.Store.VersionsOf(ctx, run.ID)
	if err != nil {
		return r, nil, err
	}
	if app == "" && len(had) > 0 {
		app = had[0].App
	}
	one, err := of.Named(app)
	if err != nil {
		return r, nil, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	r.App, r.Name = one.Name, run.VersionName
	if given := versions.Given(had, one.Name); given != nil {
		r.Name, r.Builds.V = given.Name, given.Builds
	}
	if r.Name == "" {
		return r, nil, fmt.Errorf("the run has no version: %w; a step raise gives it one, or [version] in its pipeline "+
			"names the file it stands in", ground.ErrInvalid)
	}
	parts, err := version.Parse(r.Name)
	if err != nil {
		return r, nil, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	r.Key = parts.Key()
	return r, of, nil
}

// parts are the packages of an app that a run has kept. Everything that keeps them from being released is told at once.
func (s *Releases) parts(ctx context.Context, run store.Run, r store.Release, of *definition.Apps) ([]store.ReleasePart,
	error) {
	found, err := s.Store.Packages(ctx, run.ProjectID, store.PackageFilter{Run: run.Number, Limit: maxParts})
	if err != nil {
		return nil, err
	}
	kept, err := s.Store.Artifacts(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	artifacts := map[string]record.ArtifactID{}
	for _, a := range kept {
		artifacts[a.SHA256] = a.ID
	}
	var parts []store.ReleasePart
	var against []string
	seen := map[string]bool{}
	for _, p := range found {
		if app := of.WithID(p.Platform, p.App); app == nil || app.Name != r.App || seen[p.SHA256] {
			continue
		}
		seen[p.SHA256] = true
		id, is := artifacts[p.SHA256]
		if !is {
			continue // it was looked into, and not kept
		}
		if why := s.against(p, r); why != "" {
			against = append(against, p.File+" "+why)
		}
		parts = append(parts, store.ReleasePart{Package: p, Artifact: id})
	}
	switch {
	case len(against) > 0:
		return nil, fmt.Errorf("%s %s cannot be released: %s: %w", r.App, r.Name, strings.Join(against, "; "),
			ground.ErrInvalid)
	case len(parts) == 0:
		return nil, fmt.Errorf("run %d keeps no package of %s that was held against the checklist, and a release without "+
			"one is %w; the pipeline needs a step checklist, and a keep with the same files", run.Number, r.App,
			ground.ErrInvalid)
	}
	return parts, s.decided(ctx, run, parts)
}

// decided refuses packages about which people are asked and have not said yes.
func (s *Releases) decided(ctx context.Context, run store.Run, parts []store.ReleasePart) error {
	asked := slices.ContainsFunc(parts, func(p store.ReleasePart) bool {
		return slices.ContainsFunc(p.Findings.V, func(f checklist.Breach) bool { return f.Asked })
	})
	if !asked {
		return nil
	}
	gates, err := s.Store.GatesOf(ctx, run.ID)
	if err != nil {
		return err
	}
	last := map[record.JobID]store.Gate{}
	for _, g := range gates {
		last[g.JobID] = g
	}
	for _, g := range last {
		if g.Outcome != store.GateYes {
			return fmt.Errorf("people have not said yes to what the checklist found, in job %s: %w", g.Job, ground.ErrInvalid)
		}
	}
	return nil
}

// maxParts is how many packages of a run are looked at.
const maxParts = 500

// against tells what is against releasing a package; "" when nothing is.
func (s *Releases) against(p store.Package, r store.Release) string {
	build, given := r.Builds.V[p.Platform]
	switch {
	case checklist.Failed(p.Findings.V):
		return "does not meet the checklist"
	case p.Version != r.Name:
		return fmt.Sprintf("says it is version %.60q", p.Version)
	case given && p.Build != fmt.Sprint(build):
		return fmt.Sprintf("says it is build %.60q, and the ledger gave %d", p.Build, build)
	}
	return ""
}

// Withdraw takes a release back: it goes nowhere any more, and what is on its way is taken back. Who has it already,
// has it.
func (s *Releases) Withdraw(ctx context.Context, project string, at api.ReleasePath, in api.Withdrawal) error {
	r, err := s.Find(ctx, project, at)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		if err := q.Withdraw(ctx, r.ID, ground.WhoAsks(ctx).Name, in.Reason); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				return ground.Saying(ground.ErrExists, "%s %s is withdrawn already", r.App, r.Name)
			}
			return err
		}
		going, err := q.WithdrawPublications(ctx, r.ID)
		for _, id := range going {
			if err == nil {
				err = q.PutOff(ctx, PublicationDue{Publication: id, Wake: true})
			}
		}
		if err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.ReleaseWithdraw, Project: project, Subject: r.App + " " + r.Name,
			After: map[string]string{"reason": in.Reason}})
	})
}
