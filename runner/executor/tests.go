package executor

import (
	"context"
	"fmt"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/workspace"
)

const (
	// casesAtOnce is how many cases are told in one request.
	casesAtOnce = 1000
	// longName and longMessage bound what is told of a case, in bytes.
	longName    = 1000
	longMessage = 1800
)

// tests reads the reports of a step that has ended with a code, or a fault, and tells the service of each case. aside
// says that the code is of no account: every case that failed is set aside.
func (s script) tests(ctx context.Context, i int, step *definition.Step, code int, fault error) (sum *api.TestReport,
	aside string, err error) {
	t := s.Files.TestReports(step.TestReports, s.DirOf(step),
		func(format string, args ...any) { s.Attempt.Say(i, format, args...) })
	if t.None != "" && fault == nil && code == 0 && !step.TestsOptional {
		return t.Sum, "", attempt.Ending{State: state.Failed,
			Reason: t.None + "; a step that may do without says tests_optional = true"}
	}
	// What cannot be told fails no step: the report itself is kept.
	excused, err := s.tell(ctx, i, t.Cases)
	if err != nil {
		s.Attempt.Say(i, "test cases: not all could be kept for their history: %v", err)
		return t.Sum, "", fault
	}
	if fault != nil || code == 0 || !excuses(excused, t) {
		return t.Sum, "", fault
	}
	lines := []string{fmt.Sprintf("Exit code %d, and nothing failed but what is set aside:", code), ""}
	for _, c := range excused {
		s.Attempt.Say(i, "set aside until %s: %s %s; %s", c.Until.Format("2006-01-02"), c.Suite, c.Name, c.Reason)
		lines = append(lines, fmt.Sprintf("- `%s` until %s: %s", strings.ReplaceAll(c.Suite+" "+c.Name, "`", "'"),
			c.Until.Format("2006-01-02"), c.Reason))
	}
	return t.Sum, strings.Join(lines, "\n"), nil
}

// excuses tells that nothing failed but what is set aside, as far as anybody can know.
func excuses(aside map[string]api.CaseAside, t workspace.Tests) bool {
	failed := 0
	for _, c := range t.Cases {
		if c.Result != testreport.Failed {
			continue
		}
		failed++
		if _, is := aside[nameOf(c.Suite, c.Name)]; !is {
			return false
		}
	}
	return failed > 0 && !t.Cut
}

func nameOf(suite, name string) string { return suite + "\x00" + name }

// tell tells the service what came of cases, and returns which of those that failed are set aside, by suite and name.
func (s script) tell(ctx context.Context, i int, cases []testreport.Case) (map[string]api.CaseAside, error) {
	excused := map[string]api.CaseAside{}
	for from := 0; from < len(cases); from += casesAtOnce {
		part := api.CasesRan{Step: i}
		for _, c := range cases[from:min(from+casesAtOnce, len(cases))] {
			part.Cases = append(part.Cases, api.CaseSeen{Suite: cut(c.Suite, longName), Name: cut(c.Name, longName),
				Result: c.Result, TookMs: int64(max(0, min(c.Seconds, 1e9)) * 1000), Message: cut(c.Message, longMessage)})
		}
		err := s.Attempt.Insist(ctx, "telling of test cases", func() error {
			noted, err := s.Attempt.Post.RanCases(ctx, s.Attempt.ID(), part)
			for _, a := range noted.Aside {
				excused[nameOf(a.Suite, a.Name)] = a
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return excused, nil
}

// cut shortens a text to some bytes, between characters.
func cut(text string, most int) string {
	if len(text) > most {
		text = text[:most]
	}
	return strings.ToValidUTF8(text, "\uFFFD")
}
