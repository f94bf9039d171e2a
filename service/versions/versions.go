// Package versions keeps the ledger: which version names and build numbers were handed out, to which run, and what
// became of them. A number is never given twice; a name is a run's while it works, and is free again when it fails. It
// also brings what was raised back into the repository.
package versions

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/secrets"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// Versions is the room of versions.
type Versions struct {
	*ground.Ground
	secrets *secrets.Secrets
}

// New makes it. What a server that was killed was about to land is removed: whoever asked for it asks again.
func New(g *ground.Ground, s *secrets.Secrets) (*Versions, error) {
	v := &Versions{Ground: g, secrets: s}
	ground.Does(g, v.draftNotes)
	return v, os.RemoveAll(v.folder())
}

// folder is where landings are prepared.
func (s *Versions) folder() string { return filepath.Join(s.Home(), "landings") }

// RunOf is the run and the job of a running attempt.
func (s *Versions) RunOf(ctx context.Context, attempt record.AttemptID) (store.Run, *definition.Job, error) {
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return store.Run{}, nil, ground.Gone(err, attempt)
	}
	job, err := s.Store.JobByID(ctx, a.JobID)
	if err != nil {
		return store.Run{}, nil, err
	}
	run, err := s.Store.RunByID(ctx, a.RunID)
	return run, job.Definition.V, err
}

// counts tells whether what a run is given is kept in the ledger: what a proposal builds is nothing that is released.
func counts(run store.Run) bool { return run.Trigger != plan.OnProposal && !run.Outside }

// Raise hands the next version of an app out to the run of an attempt. The same run is given the same again.
func (s *Versions) Raise(ctx context.Context, attempt record.AttemptID, in api.RaiseRequest) (api.Raised, error) {
	run, job, err := s.RunOf(ctx, attempt)
	if err != nil {
		return api.Raised{}, err
	}
	if !slices.ContainsFunc(job.Step, func(s *definition.Step) bool {
		return s.Raise != nil && (s.Raise.App == "" || s.Raise.App == in.App)
	}) {
		return api.Raised{}, fmt.Errorf("no step of the job raises %s: %w", in.App, ground.ErrForbidden)
	}
	w := version.Wish{By: in.By, Pre: in.Pre, To: in.To}
	n := version.Numbering{Scheme: version.Scheme(in.Scheme), Digits: in.Digits, Span: in.Span}
	for _, wrong := range []string{w.Complaint(), n.Complaint()} {
		if wrong != "" {
			return api.Raised{}, fmt.Errorf("%s: %w", wrong, ground.ErrInvalid)
		}
	}
	slices.Sort(in.Platforms)
	in.Platforms = slices.Compact(in.Platforms)
	r := &raise{in: in, wish: w, numbering: n, run: run, today: time.Now()}
	if in.Name != "" {
		if r.inFiles, err = version.Parse(in.Name); err != nil {
			return api.Raised{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
		}
	}
	if w.By == version.ByCommits {
		if r.changes, err = s.changesSince(ctx, run, in.App, in.Platforms[0]); err != nil {
			return api.Raised{}, err
		}
	}
	var out api.Raised
	err = s.Tx(ctx, func(q ground.Q) error {
		out, err = r.do(ctx, q)
		return err
	})
	return out, err
}

// raise is one that is being done.
type raise struct {
	in        api.RaiseRequest
	wish      version.Wish
	numbering version.Numbering
	run       store.Run
	inFiles   version.Parts
	changes   []version.Change
	today     time.Time
}

func (r *raise) do(ctx context.Context, q ground.Q) (api.Raised, error) {
	lines := make([]store.VersionLine, len(r.in.Platforms))
	var err error
	for i, platform := range r.in.Platforms { // in one order, so that none waits for another that waits for it
		if lines[i], err = q.LockLine(ctx, r.run.ProjectID, r.in.App, platform); err != nil {
			return api.Raised{}, err
		}
	}
	had, err := q.VersionsOf(ctx, r.run.ID)
	if err != nil {
		return api.Raised{}, err
	}
	if again := Given(had, r.in.App); again != nil {
		return *again, nil
	}
	known := version.Known{Now: r.inFiles, Tag: r.run.Tag, Changes: r.changes, Today: r.today}
	for _, platform := range r.in.Platforms {
		name, err := q.HighestName(ctx, r.run.ProjectID, r.in.App, platform)
		if err != nil {
			return api.Raised{}, err
		}
		if p, err := version.Parse(name); err == nil && p.Compare(known.Now) > 0 {
			known.Now = p
		}
	}
	if r.wish.By == version.ByBuild && len(r.inFiles.Numbers) > 0 {
		known.Now = r.inFiles // the number of what is in the files, not of what another run is at
	}
	name, why, err := r.wish.Name(known)
	if err != nil {
		return api.Raised{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	if err := r.shareCount(ctx, q, lines); err != nil {
		return api.Raised{}, err
	}
	builds, err := r.builds(lines, name)
	if err != nil {
		return api.Raised{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	out := api.Raised{App: r.in.App, Name: name.String(), Builds: builds, Why: why, Counts: counts(r.run)}
	out.Env = out.Variables()
	highest := version.BuildNumber(0)
	if out.Counts {
		if err := r.give(ctx, q, lines, name, out); err != nil {
			return api.Raised{}, err
		}
		if err := q.PutOff(ctx, notesDue{r.run.ID, out.App}); err != nil {
			return api.Raised{}, err
		}
		for _, n := range builds {
			highest = max(highest, n)
		}
	}
	if err := q.SetRunVersion(ctx, r.run.ID, out.Name, highest, out.Env); err != nil {
		return api.Raised{}, err
	}
	return out, q.Tell(ctx, ground.OfRun(fact.RunGoesOn, r.run))
}

// shareCount makes lines that are counted go on from the project's own count.
func (r *raise) shareCount(ctx context.Context, q ground.Q, lines []store.VersionLine) error {
	if !r.numbering.Counts() {
		return nil
	}
	last, err := q.ProjectCount(ctx, r.run.ProjectID)
	for i := range lines {
		lines[i].Last = max(lines[i].Last, last)
	}
	return err
}

// builds finds the first build number of each platform.
func (r *raise) builds(lines []store.VersionLine, name version.Parts) (map[string]version.BuildNumber, error) {
	last := map[string]version.BuildNumber{}
	for _, l := range lines {
		last[l.Platform] = max(l.Last, l.Floor, version.BuildNumber(r.in.Builds[l.Platform]))
	}
	return r.numbering.NextOf(last, r.in.Each, name, r.today)
}

// give writes what is handed out.
func (r *raise) give(ctx context.Context, q ground.Q, lines []store.VersionLine, name version.Parts,
	out api.Raised) error {
	lands, err := r.lands(ctx, q)
	if err != nil {
		return err
	}
	span := version.BuildNumber(max(1, r.in.Span))
	for _, l := range lines {
		first := out.Builds[l.Platform]
		v := store.Version{ProjectID: r.run.ProjectID, App: l.App, Platform: l.Platform, Name: out.Name, Key: name.Key(),
			Reserved: r.wish.By != version.ByBuild, FirstBuild: first, LastBuild: first + span - 1, RunID: r.run.ID,
			Why: out.Why, Lands: lands}
		if v.Reserved {
			holder, err := q.NameHolder(ctx, v.ProjectID, v.App, v.Platform, v.Key)
			switch {
			case err == nil:
				return fmt.Errorf("the version %s of %s was given to run %d, which is %s: %w; a name is released once: raise "+
					"to another, or by build", v.Name, v.App, holder.Run, holder.State, ground.ErrInvalid)
			case !errors.Is(err, store.ErrNotFound):
				return err
			}
		}
		if err := q.AddVersion(ctx, v); err != nil {
			return ground.Known(err, "version %s (%d) of %s", v.Name, first, v.App)
		}
		l.Last = v.LastBuild
		if err := q.SetLine(ctx, r.run.ProjectID, l); err != nil {
			return err
		}
		if !r.numbering.Counts() {
			continue
		}
		if err := q.RaiseProjectCount(ctx, r.run.ProjectID, l.Last); err != nil {
			return err
		}
	}
	return nil
}

// lands tells whether a job of the run means to land the app's version on its branch.
func (r *raise) lands(ctx context.Context, q ground.Q) (bool, error) {
	jobs, err := q.Jobs(ctx, r.run.ID)
	if err != nil {
		return false, err
	}
	for _, j := range jobs {
		if slices.ContainsFunc(j.Definition.V.Step, func(s *definition.Step) bool {
			return s.Land != nil && s.Land.As == "" && (s.Land.App == "" || s.Land.App == r.in.App)
		}) {
			return true, nil
		}
	}
	return false, nil
}

// Given is what a run was handed out for an app; nil when nothing was.
func Given(had []store.Version, app string) *api.Raised {
	var out *api.Raised
	for _, v := range had {
		if v.App != app {
			continue
		}
		if out == nil {
			out = &api.Raised{App: app, Name: v.Name, Builds: map[string]version.BuildNumber{}, Why: v.Why, Counts: true}
		}
		out.Builds[v.Platform] = v.FirstBuild
	}
	if out != nil {
		out.Env = out.Variables()
	}
	return out
}

// changesSince reads what the commits since the last release say.
func (s *Versions) changesSince(ctx context.Context, run store.Run, app, platform string) ([]version.Change, error) {
	_, repo, err := s.repository(ctx, run.ProjectID)
	if err != nil {
		return nil, err
	}
	last, err := s.Store.LastReleased(ctx, run.ProjectID, app, platform, "", false)
	if err != nil {
		return nil, err
	}
	messages, err := repo.SinceTag(ctx, run.Commit, source.Since{Not: run.Tag, And: last})
	return version.ReadChanges(messages), err
}

// repository opens a project's, brought up to date.
func (s *Versions) repository(ctx context.Context, id record.ProjectID) (store.Project, source.Repo, error) {
	p, err := s.Store.ProjectByID(ctx, id)
	if err != nil {
		return p, source.Repo{}, err
	}
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err == nil {
		err = repo.Fetch(ctx, p.Remote)
	}
	return p, repo, err
}

// Ledger lists what was handed out in a project.
func (s *Versions) Ledger(ctx context.Context, project string, f api.LedgerFilter) (out api.Ledger, err error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	limit := min(max(1, f.Limit), 1000)
	list, err := s.Store.Ledger(ctx, p.ID, store.VersionFilter{App: f.App, Platform: f.Platform, State: f.State,
		Contains: f.Contains, Before: f.Before, Limit: limit + 1})
	if err != nil {
		return out, err
	}
	if len(list) > limit {
		list = list[:limit]
		out.Next = list[limit-1].ID
	}
	out.Lines, out.Entries = []api.LedgerLine{}, []api.LedgerEntry{}
	for _, v := range list {
		out.Entries = append(out.Entries, api.LedgerEntry{ID: v.ID, App: v.App, Platform: v.Platform, Name: v.Name,
			Build: v.FirstBuild, LastBuild: v.LastBuild, Named: v.Reserved, Run: v.Run, Pipeline: v.Pipeline, Branch: v.Branch,
			Commit: v.Commit, Why: v.Why, State: string(v.State), Landed: v.Landed, Issued: v.Issued})
	}
	if out.Count, err = s.Store.CountOf(ctx, p.ID); err != nil {
		return out, err
	}
	lines, err := s.Store.VersionLines(ctx, p.ID)
	for _, l := range lines {
		line := api.LedgerLine{App: l.App, Platform: l.Platform, Last: l.Last, Floor: l.Floor}
		if line.Name, err = s.Store.HighestName(ctx, p.ID, l.App, l.Platform); err != nil {
			return out, err
		}
		if line.Released, err = s.Store.LastReleased(ctx, p.ID, l.App, l.Platform, "", false); err != nil {
			return out, err
		}
		out.Lines = append(out.Lines, line)
	}
	return out, err
}

// SetFloor says which number a store had before: the next is above it. A floor only rises.
func (s *Versions) SetFloor(ctx context.Context, project string, in api.LedgerFloor) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		line, err := q.LockLine(ctx, p.ID, in.App, in.Platform)
		if err != nil {
			return err
		}
		if in.Floor < line.Floor {
			return fmt.Errorf("the floor of %s on %s is %d already, and only rises: %w", in.App, in.Platform, line.Floor,
				ground.ErrInvalid)
		}
		was := line.Floor
		line.Floor = in.Floor
		if err := q.SetLine(ctx, p.ID, line); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.LedgerFloor, Project: project, Subject: in.App + " " + in.Platform,
			Before: was, After: in.Floor})
	})
}

// maxLearned is the widest gap over which a store is believed: one that lies would use up all numbers. Over a wider one
// a person says it (SetFloor).
const maxLearned = 1_000_000

// Learn takes in that a store has taken a number, so that the next is above it. What is known already, or is too far
// above what was handed out, changes nothing.
func (s *Versions) Learn(ctx context.Context, project, app, platform string, taken version.BuildNumber) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		line, err := q.LockLine(ctx, p.ID, app, platform)
		known := max(line.Last, line.Floor)
		if err != nil || taken <= known || taken-known > maxLearned {
			return err
		}
		told := fact.Fact{Kind: fact.LedgerFloor, Project: project, Subject: app + " " + platform, Before: line.Floor,
			After: taken}
		line.Floor = taken
		return errors.Join(q.SetLine(ctx, p.ID, line), q.Tell(ctx, told))
	})
}
