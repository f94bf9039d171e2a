package intake

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// cause is what led to a run, besides its event.
type cause struct {
	person string
	inputs map[string]string
	run    record.RunNumber // number of the run whose end or repetition this is
	depth  int              // how many runs led here, one starting the next
	note   *definition.Finding
	anew   string // store.Fresh, store.Audit, or ""
}

// MaxDepth bounds runs that start runs.
const MaxDepth = 10

// planner finds the runs that events of one project start, and writes them in one transaction.
type planner struct {
	*Intake
	project   store.Project
	view      *view
	known     *check.Service
	revisions map[string]int // of the secrets, by name
	push      record.PushID  // the recorded event that is planned; 0: a person's wish
	out       outcome
}

func (s *Intake) planner(ctx context.Context, p store.Project, v *view) (*planner, error) {
	known, revisions, err := s.knowledge(ctx, s.Store.Q, p)
	return &planner{Intake: s, project: p, view: v, known: known, revisions: revisions}, err
}

// knowledge is what checks may know of the service.
func (s *Intake) knowledge(ctx context.Context, q store.Q, p store.Project) (*check.Service, map[string]int, error) {
	secrets, err := q.Secrets(ctx, p.ID, store.Page{})
	if err != nil {
		return nil, nil, err
	}
	known, revisions := &check.Service{Project: p.Name, Now: time.Now()}, map[string]int{}
	for _, v := range secrets {
		known.Secrets, revisions[v.Name] = append(known.Secrets,
			check.Secret{Name: v.Name, Scope: v.Scope(), Expires: v.Expires, Profile: v.Profile.V}), v.Number
	}
	lines, err := q.VersionLines(ctx, p.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range lines {
		g := check.Given{App: l.App, Platform: l.Platform, Build: int64(max(l.Last, l.Floor))}
		if g.Name, err = q.HighestName(ctx, p.ID, l.App, l.Platform); err != nil {
			return nil, nil, err
		}
		known.Given = append(known.Given, g)
	}
	if known.LastBuild, err = q.LastBuild(ctx, p.ID); err != nil {
		return nil, nil, err
	}
	outlets, err := q.Outlets(ctx, p.ID)
	if err != nil {
		return nil, nil, err
	}
	known.Outlets = make([]string, len(outlets))
	for i, o := range outlets {
		known.Outlets[i] = o.Name
	}
	runners, err := q.Runners(ctx, store.Page{})
	for _, r := range runners {
		known.Runners = append(known.Runners, work.RunnerOf(r))
	}
	return known, revisions, err
}

// event finds the runs an event starts.
func (pl *planner) event(ctx context.Context, e plan.Event, why cause) error {
	snap, err := pl.view.at(ctx, e.Commit)
	if err != nil {
		return err
	}
	if e.Trigger == plan.OnPush || e.Trigger == plan.OnTag {
		own, err := pl.Store.IsOwnCommit(ctx, pl.project.ID, snap.commit.ID)
		if err != nil || own || plan.AsksForNoRun(snap.commit.Message) {
			return err
		}
	}
	result := snap.check(pl.known, e.Tag)
	leaked, err := pl.leaks(ctx, snap)
	if err != nil {
		return err
	}
	followed := follows(result.Files)
	for _, f := range result.Files {
		run := store.Run{ProjectID: pl.project.ID, Project: pl.project.Name, Pipeline: f.Name, Trigger: e.Trigger,
			Branch: e.Branch, Tag: e.Tag,
			Commit: snap.commit.ID, Subject: snap.commit.Subject, Author: snap.commit.Author, StartedBy: why.person,
			Queued: time.Now(),
			Target: e.Target, Proposal: e.Proposal, Outside: e.Outside, Schedule: e.Schedule, Anew: why.anew, CausedBy: why.run,
			Depth: why.depth, Followed: followed[f.Name], PushID: pl.push}
		run.Findings.V = slices.Concat(f.Findings, result.Findings, leaked)
		starts, err := pl.consider(ctx, &run, f, e, snap, why)
		if err != nil {
			return err
		}
		if starts {
			pl.out.runs = append(pl.out.runs, plannedRun{run, f.Pipeline})
		}
	}
	return nil
}

// follows tells which pipelines others wait for.
func follows(files []check.File) map[string]bool {
	m := map[string]bool{}
	for _, f := range files {
		if f.Pipeline != nil {
			for name := range f.Pipeline.Trigger.Pipeline {
				m[name] = true
			}
		}
	}
	return m
}

// consider decides whether an event starts a pipeline, and completes the run with what depends on the event.
func (pl *planner) consider(ctx context.Context, run *store.Run, f check.File, e plan.Event, snap *snapshot,
	why cause) (bool, error) {
	if e.Pipeline != "" && e.Pipeline != f.Name {
		return false, nil
	}
	p := f.Pipeline
	if p == nil {
		// It cannot be known what would start it; silence would hide the mistake.
		return e.Trigger != plan.OnSchedule && e.Trigger != plan.OnPipeline || e.Pipeline != "", nil
	}
	changes := pl.changes(ctx, e, f.Name, snap)
	starts, err := plan.Matches(p, e, changes)
	if err != nil {
		return false, err
	}
	var changed []string
	if starts && p.AsksFor("changed") {
		list, all, err := changes()
		if err != nil {
			return false, err
		}
		if changed = list; all {
			changed = snap.paths()
		}
	}
	if e.Trigger == plan.OnPush && plan.OfBranch(p, e.Branch) { // from here on it has seen this commit
		pl.out.heads = append(pl.out.heads, head{f.Name, e.Branch, snap.commit.ID})
	}
	if !starts {
		return false, nil
	}
	run.Facts.V = condition.Facts{Trigger: string(e.Trigger), Branch: e.Branch, Tag: e.Tag, Commit: snap.commit.ID,
		Subject: snap.commit.Subject,
		Author:  snap.commit.Author, Target: e.Target, Trusted: !e.Outside, Changed: changed}
	texts, values, err := definition.AcceptAll(p.Input, why.inputs)
	if err != nil {
		run.Findings.V = append(run.Findings.V,
			check.New(p, "bad-input", err.Error(), "Give it at the start.", definition.Place{Keys: []string{"input"}}))
	}
	run.Inputs.V, run.Facts.V.Input = texts, values
	if s := p.Trigger.Schedule[e.Schedule]; s != nil && s.Audit {
		run.Anew = store.Audit
	}
	if why.note != nil {
		run.Findings.V = append(run.Findings.V, *why.note)
	}
	run.VersionName = pl.versionName(p, snap, &run.Findings.V)
	pl.judgeSecrets(p, run)
	return true, nil
}

// changes finds what differs from what a pipeline last saw of the branch; for a proposal, from its target.
func (pl *planner) changes(ctx context.Context, e plan.Event, pipeline string, snap *snapshot) plan.Changes {
	var paths []string
	var all bool
	var err error
	done := false
	return func() ([]string, bool, error) {
		if !done {
			done = true
			paths, all, err = pl.changed(ctx, e, pipeline, snap)
		}
		return paths, all, err
	}
}

func (pl *planner) changed(ctx context.Context, e plan.Event, pipeline string, snap *snapshot) (paths []string,
	all bool, err error) {
	base := ""
	switch e.Trigger {
	case plan.OnPush:
		if base, err = pl.Store.Head(ctx, pl.project.ID, pipeline, e.Branch); err != nil {
			return nil, false, err
		}
		if base == "" && strings.Trim(e.Before, "0") != "" {
			base = e.Before
		}
		if base == "" && e.Branch != pl.view.main {
			base = "refs/heads/" + pl.view.main
		}
	case plan.OnProposal:
		base = "refs/heads/" + e.Target
	default:
		if last, err := pl.Store.LastPassed(ctx,
			store.Run{ProjectID: pl.project.ID, Pipeline: pipeline, Branch: e.Branch, Number: 1 << 62}); err == nil {
			base = last.Commit
		} else if !errors.Is(err, store.ErrNotFound) {
			return nil, false, err
		}
	}
	if base == "" {
		return nil, true, nil
	}
	from, err := pl.view.reader.Commit(base)
	if errors.Is(err, source.ErrNoObject) {
		return nil, true, nil // history was rewritten: what was seen is gone
	}
	if err != nil {
		return nil, false, err
	}
	if strings.HasPrefix(base, "refs/") {
		// What a branch changes counts from where it left the other.
		common, err := pl.view.repo.MergeBase(ctx, from.ID, snap.commit.ID)
		if errors.Is(err, source.ErrNoObject) {
			return nil, true, nil
		}
		if err != nil {
			return nil, false, err
		}
		from.ID = common
	}
	paths, err = pl.view.repo.Changed(ctx, from.ID, snap.commit.ID)
	return paths, false, err
}

// maxVersionFile is far more than a version name needs; only the first line counts.
const maxVersionFile = 64 << 10

// versionName reads the version name a pipeline builds; what is wrong with it becomes a finding.
func (pl *planner) versionName(p *definition.Pipeline, snap *snapshot, findings *[]definition.Finding) string {
	if p.Version == nil {
		return ""
	}
	text, err := snap.read(path.Clean(p.Version.File), maxVersionFile)
	if err == nil && text == nil {
		return "" // check has said that it is not there
	}
	name, nameErr := version.Name(string(text))
	if err = errors.Join(err, nameErr); err != nil {
		*findings = append(*findings,
			check.About("bad-version-file", p.Version.File, err.Error(),
				"Put the version name, such as 1.4.0, on the file's first line."))
	}
	return name
}
