package report

import (
	"context"
	"errors"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/cause"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// explain adds to a failure why it is one, and how often the same was seen before.
func (s *Report) explain(ctx context.Context, run store.Run, attempt record.AttemptID, f *api.Failure) error {
	if f == nil || attempt == 0 {
		return nil
	}
	seen, err := s.Store.FailureOf(ctx, attempt)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it ended before causes were kept, or by no report of a runner
	}
	if err != nil {
		return err
	}
	if seen.Cause != "" {
		f.Cause = &api.FailureCause{Name: seen.Cause, Title: seen.Title, Means: seen.Means, Do: seen.Do, Own: seen.Own,
			Said: seen.Said}
	}
	before, err := s.Store.FailureSeenBefore(ctx, run.ProjectID, seen.Print, run.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	told, err := s.seen(ctx, run.ProjectID, []store.Recurrence{before}, run.Number)
	if err == nil {
		f.Seen = &told[0]
	}
	return err
}

// now is after every run.
const now = record.RunNumber(1 << 62)

// seen tells how often failures were seen before a run, and with which runs they went away the last time.
func (s *Report) seen(ctx context.Context, project record.ProjectID, list []store.Recurrence, before record.RunNumber) (
	[]api.FailureSeen, error) {
	prints := make([][]byte, len(list))
	for i, r := range list {
		prints[i] = r.Print
	}
	ends, err := s.Store.FailureEnds(ctx, project, prints, before)
	gone := map[string]store.FailureEnd{}
	for _, e := range ends {
		gone[string(e.Print)] = e
	}
	out := make([]api.FailureSeen, len(list))
	for i, r := range list {
		out[i] = api.FailureSeen{Times: r.Times, FirstRun: r.FirstRun, First: r.First, LastRun: r.LastRun, Last: r.Last,
			Still: true}
		if e, is := gone[string(r.Print)]; is {
			out[i].Gone = &api.FailureGone{Run: e.Number, Commit: e.Commit, Subject: e.Subject, Author: e.Author}
			out[i].Still = e.Number < r.LastRun
		}
	}
	return out, err
}

// Failures lists what failed in a project, each failure once.
func (s *Report) Failures(ctx context.Context, project string, f api.FailureFilter) (api.FailurePage, error) {
	out := api.FailurePage{Failures: []api.KnownFailure{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	list, err := s.Store.Failures(ctx, p.ID, store.FailureFilter{Contains: f.Contains, Cause: f.Cause, Skip: f.Skip,
		Limit: f.Limit + 1})
	if err != nil {
		return out, err
	}
	if len(list) > f.Limit {
		list, out.Next = list[:f.Limit], f.Skip+f.Limit
	}
	told, err := s.seen(ctx, p.ID, list, now)
	if err != nil {
		return out, err
	}
	for i, r := range list {
		out.Failures = append(out.Failures, api.KnownFailure{FailureSeen: told[i], Pipeline: r.Pipeline, Job: r.Job,
			Step: r.Step, Cause: r.Cause, Title: r.Title, Said: r.Said})
	}
	return out, nil
}

// Causes lists what the product knows to fail.
func (s *Report) Causes() []cause.Cause { return cause.With(nil).All() }
