package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// maxCommits is how many commits a comparison lists.
const maxCommits = 100

func noDifference() api.Since {
	return api.Since{Commits: []api.CommitNote{}, Definition: []api.Difference{}, Tools: []api.Difference{},
		Caches: []api.Difference{}, Secrets: []api.Difference{}, Runners: []api.Difference{}}
}

// Since compares a run with the last one of its pipeline that passed.
func (s *Report) Since(ctx context.Context, project string, number record.RunNumber) (api.Since, error) {
	out := noDifference()
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return out, err
	}
	last, err := s.Store.LastPassed(ctx, run)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	return s.Between(ctx, last, run)
}

// Between tells what differs between two runs of a pipeline.
func (s *Report) Between(ctx context.Context, last, run store.Run) (api.Since, error) {
	out := noDifference()
	out.Run = last.Number
	var err error
	if out.Commits, err = s.commitsBetween(ctx, run.ProjectID, last.Commit, run.Commit); err != nil {
		return out, err
	}
	before, err := s.parts(ctx, last.ID)
	if err != nil {
		return out, err
	}
	after, err := s.parts(ctx, run.ID)
	if err != nil {
		return out, err
	}
	if len(after.jobs) > 0 { // one that never began has nothing to compare
		out.Definition = differences(before.definition(), after.definition())
		out.Tools = bothSides(before.tools(), after.tools())
		out.Caches = bothSides(before.cacheKeys(), after.cacheKeys())
		out.Secrets = bothSides(revisions(last), revisions(run))
		out.Runners = bothSides(before.runners(), after.runners())
	}
	return out, nil
}

func (s *Report) commitsBetween(ctx context.Context, project record.ProjectID, before, after string) ([]api.CommitNote,
	error) {
	notes := []api.CommitNote{}
	p, err := s.Store.ProjectByID(ctx, project)
	if err != nil {
		return notes, err
	}
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err != nil {
		return notes, nil // the repository is gone; the rest of the comparison is not
	}
	list, err := repo.Log(ctx, before, after, maxCommits)
	if err != nil {
		s.Log.Warn("commits cannot be compared", "project", p.Name, "error", err)
		return notes, nil // history was rewritten
	}
	for _, c := range list {
		notes = append(notes, api.CommitNote{ID: c.ID, Subject: c.Subject, Author: c.Author})
	}
	return notes, nil
}

// differences compares two sets of values.
func differences(before, after map[string]string) []api.Difference {
	list := []api.Difference{}
	keys := slices.Collect(maps.Keys(before))
	for k := range after {
		if _, both := before[k]; !both {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	for _, k := range keys {
		if before[k] != after[k] {
			list = append(list, api.Difference{What: k, Before: before[k], After: after[k]})
		}
	}
	return list
}

// bothSides compares only what both have: a job that has not run yet has lost nothing.
func bothSides(before, after map[string]string) []api.Difference {
	for k := range before {
		if _, both := after[k]; !both {
			delete(before, k)
		}
	}
	return differences(before, after)
}

// definition lists the values of all jobs by their paths.
func (p parts) definition() map[string]string {
	values := map[string]string{}
	for _, j := range p.jobs {
		text, err := json.Marshal(j.Definition.V)
		if err != nil {
			panic(err) // it came from JSON
		}
		var tree any
		if err := json.Unmarshal(text, &tree); err != nil {
			panic(err)
		}
		flatten(values, "job."+j.Name, tree)
	}
	return values
}

// notDefined are fields of a job that say where something stands or what became of it.
var notDefined = []string{"line", "file", "skip", "name", "of"}

func flatten(values map[string]string, at string, tree any) {
	switch v := tree.(type) {
	case map[string]any:
		for k, child := range v {
			if !slices.Contains(notDefined, k) {
				flatten(values, at+"."+k, child)
			}
		}
	case []any:
		for i, child := range v {
			flatten(values, at+"["+strconv.Itoa(i)+"]", child)
		}
	default:
		values[at] = clip(fmt.Sprint(v))
	}
}

// clip keeps a value short enough for a list.
func clip(text string) string {
	if r := []rune(text); len(r) > 300 {
		return string(r[:299]) + "…"
	}
	return text
}

func (p parts) tools() map[string]string {
	found := map[string]string{}
	for _, j := range p.jobs {
		if a, ok := p.latest(j); ok {
			for name := range j.Definition.V.Tools {
				found[j.Name+": "+name] = a.ToolsFound.V[name]
			}
		}
	}
	return found
}

func (p parts) cacheKeys() map[string]string {
	keys := map[string]string{}
	for _, j := range p.jobs {
		if a, ok := p.latest(j); ok {
			for _, u := range p.uses[a.ID] {
				keys[j.Name+": "+u.Name] = fmt.Sprintf("%.12s", u.Key)
			}
		}
	}
	return keys
}

func (p parts) runners() map[string]string {
	names := map[string]string{}
	for _, j := range p.jobs {
		if a, ok := p.latest(j); ok && a.Runner != "" {
			names[j.Name] = a.Runner
		}
	}
	return names
}

func revisions(r store.Run) map[string]string {
	m := map[string]string{}
	for name, n := range r.Secrets.V {
		m[name] = fmt.Sprintf("revision %d", n)
	}
	return m
}
