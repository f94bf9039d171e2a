package history

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/trend"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Ran keeps what came of test cases in an attempt, and answers which of those that failed are set aside. Cases of a
// proposal from outside leave no trace: what strangers name would be in everybody's list.
func (s *History) Ran(ctx context.Context, attempt record.AttemptID, in api.CasesRan) (api.CasesNoted, error) {
	out := api.CasesNoted{Aside: []api.CaseAside{}}
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return out, ground.Gone(err, attempt)
	}
	run, err := s.Store.RunByID(ctx, a.RunID)
	if err != nil {
		return out, err
	}
	job, err := s.Store.JobByID(ctx, a.JobID)
	if err != nil {
		return out, err
	}
	if d := job.Definition.V; in.Step >= len(d.Step) || len(d.Step[in.Step].TestReports) == 0 {
		return out, fmt.Errorf("step %d of the job reports no tests: %w", in.Step+1, ground.ErrForbidden)
	}
	if run.Outside && run.Bisection == 0 || len(in.Cases) == 0 {
		return out, nil
	}
	list := make([]store.NewResult, len(in.Cases))
	var failed [][]byte
	for i, c := range in.Cases {
		list[i] = store.NewResult{Print: testreport.PrintOf(c.Suite, c.Name), Suite: c.Suite, Name: c.Name,
			Result: string(c.Result), TookMs: c.TookMs, Message: c.Message}
		if c.Result == testreport.Failed {
			failed = append(failed, list[i].Print)
		}
	}
	if run.Bisection == 0 { // what is tried of old changes is no part of what cases have become
		err = s.Tx(ctx, func(q ground.Q) error { return q.AddResults(ctx, run, job, a.Number, list) })
	}
	if err != nil || len(failed) == 0 {
		return out, err
	}
	aside, err := s.Store.AsideOf(ctx, run.ProjectID, failed)
	for _, c := range aside {
		out.Aside = append(out.Aside, *asideOf(c))
	}
	return out, err
}

func asideOf(c store.Case) *api.CaseAside {
	if c.AsideReason == nil {
		return nil
	}
	return &api.CaseAside{Suite: c.Suite, Name: c.Name, Reason: *c.AsideReason, Until: *c.AsideUntil, By: *c.AsideBy}
}

func testCase(c store.Case) api.TestCase {
	out := api.TestCase{ID: c.ID, Suite: c.Suite, Name: c.Name, Pipeline: c.Pipeline, Job: c.Job, FirstRun: c.FirstRun,
		First: c.First, LastRun: c.LastRun, Last: c.Last, Result: c.Result, Took: c.TookMs, Runs: c.Runs,
		Failures: c.Failures, Flaky: c.Flaky, FlakyRun: c.FlakyRun, Aside: asideOf(c)}
	if c.UsualMs >= 0 {
		out.Usual = &c.UsualMs
	}
	if c.FailingSince != nil {
		out.FailingSince = *c.FailingSince
	}
	return out
}

// Cases lists test cases of a project.
func (s *History) Cases(ctx context.Context, project string, f api.TestFilter) (api.TestPage, error) {
	out := api.TestPage{Cases: []api.TestCase{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	list, err := s.Store.Cases(ctx, p.ID, store.CaseFilter{Order: store.CaseOrder(f.Show), Contains: f.Contains,
		Skip: f.Skip, Limit: f.Limit + 1})
	if err != nil {
		return out, err
	}
	if len(list) > f.Limit {
		list, out.Next = list[:f.Limit], f.Skip+f.Limit
	}
	for _, c := range list {
		out.Cases = append(out.Cases, testCase(c))
	}
	n, err := s.Store.CountCases(ctx, p.ID)
	out.All, out.Failing, out.Flaky, out.Aside = n.All, n.Failing, n.Flaky, n.Aside
	return out, err
}

// mostResults is how many results of a case are told.
const mostResults = 200

// Case tells all of one test case.
func (s *History) Case(ctx context.Context, project string, id record.CaseID) (api.TestHistory, error) {
	out := api.TestHistory{Results: []api.TestResult{}}
	p, c, err := s.find(ctx, project, id)
	if err != nil {
		return out, err
	}
	out.TestCase = testCase(c)
	list, err := s.Store.Results(ctx, p.ID, id, mostResults)
	if err != nil {
		return out, err
	}
	flaky := flakyIn(list)
	for _, r := range list {
		out.Results = append(out.Results, api.TestResult{Run: r.Run, Job: r.Job, Attempt: r.Attempt, Result: r.Result,
			Took: r.TookMs, Message: r.Message, Branch: r.Branch, Commit: r.Commit, Subject: r.Subject, At: r.At,
			Flaky: flaky[content{r.Commit, r.Job}]})
	}
	if out.FailingSince > 0 {
		if out.Broke, err = s.broke(ctx, project, list, out.FailingSince); err != nil {
			return out, err
		}
	}
	out.Changes = slower(list)
	return out, nil
}

// content is what a case ran on.
type content struct{ commit, job string }

// flakyIn finds the contents on which a case passed and failed.
func flakyIn(list []store.Result) map[content]bool {
	passed, failed, flaky := map[content]bool{}, map[content]bool{}, map[content]bool{}
	for _, r := range list {
		at := content{r.Commit, r.Job}
		passed[at] = passed[at] || r.Result == "passed" || r.Result == store.Both
		failed[at] = failed[at] || r.Result == "failed" || r.Result == store.Both
		flaky[at] = passed[at] && failed[at]
	}
	return flaky
}

// broke tells in which run a case began to fail, and what was different there. The latest result is first.
func (s *History) broke(ctx context.Context, project string, list []store.Result, since record.RunNumber) (
	*api.TestBroke, error) {
	at := slices.IndexFunc(list, func(r store.Result) bool { return r.Run == since })
	if at < 0 {
		return nil, nil // it was longer ago than what is told
	}
	out := &api.TestBroke{Run: since, Commit: list[at].Commit, Subject: list[at].Subject, Author: list[at].Author}
	for _, r := range list[at:] {
		if r.Run < since && r.Result == "passed" {
			out.Passed = r.Run
			break
		}
	}
	var err error
	out.Since, err = s.between(ctx, project, out.Passed, since)
	return out, err
}

// slower finds where a case began to take longer or less, in results of which the latest is first.
func slower(list []store.Result) (changes []api.TimedChange) {
	passed := slices.DeleteFunc(slices.Clone(list), func(r store.Result) bool { return r.Result != "passed" })
	slices.Reverse(passed)
	values := make([]float64, len(passed))
	for i, r := range passed {
		values[i] = float64(r.TookMs)
	}
	for _, c := range trend.Changes(values) {
		if r := passed[c.At]; !trifling(c.Before, c.After) {
			changes = append(changes, api.TimedChange{Run: r.Run, First: passed[c.First].Run, Last: passed[c.Last].Run,
				After: passed[c.First-1].Run, Before: int64(c.Before), Now: int64(c.After),
				Commit: r.Commit, Subject: r.Subject, Author: r.Author})
		}
	}
	return changes
}

// longestAside is how far off a day may be until which a case is set aside.
const longestAside = 90 * 24 * time.Hour

// SetAside has a case's failure fail nothing until the end of a day. It is still run, and shown.
func (s *History) SetAside(ctx context.Context, project string, id record.CaseID, in api.NewAside) (api.TestCase,
	error) {
	p, c, err := s.find(ctx, project, id)
	if err != nil {
		return api.TestCase{}, err
	}
	in.Reason = strings.TrimSpace(in.Reason)
	if left := time.Until(in.Until); in.Reason == "" || left <= 0 || left > longestAside {
		return api.TestCase{}, fmt.Errorf("what is set aside needs a reason, and a day within the next %d: %w",
			int(longestAside.Hours()/24), ground.ErrInvalid)
	}
	told := fact.Fact{Kind: fact.CaseAside, Project: project, Subject: c.Suite + " " + c.Name,
		After: map[string]any{"reason": in.Reason, "until": in.Until}}
	err = s.Acting(ctx, told, func(q ground.Q) error {
		return q.AsideCase(ctx, id, in.Reason, ground.WhoAsks(ctx).Name, in.Until)
	})
	if err != nil {
		return api.TestCase{}, err
	}
	c, err = s.Store.CaseByID(ctx, p.ID, id)
	return testCase(c), err
}

// EndAside ends that a case is set aside.
func (s *History) EndAside(ctx context.Context, project string, id record.CaseID) error {
	_, c, err := s.find(ctx, project, id)
	if err != nil {
		return err
	}
	told := fact.Fact{Kind: fact.CaseBack, Project: project, Subject: c.Suite + " " + c.Name}
	err = s.Acting(ctx, told, func(q ground.Q) error { return q.EndAside(ctx, id) })
	return ground.Known(err, "test case %d of %s is not set aside, or was until today", id, project)
}

func (s *History) find(ctx context.Context, project string, id record.CaseID) (store.Project, store.Case, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return p, store.Case{}, err
	}
	c, err := s.Store.CaseByID(ctx, p.ID, id)
	return p, c, ground.Known(err, "test case %d of %s", id, project)
}
