package executor

import (
	"context"
	"errors"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/packaging"
)

// checklists carries out a step that holds packages against the checklist. They are read in the job's sandbox; the
// service judges.
type checklists struct{ *Job }

// seen gathers what was found.
type seen []api.PackageSeen

// hear implements listener.
func (s *seen) hear(q packaging.Question) (*packaging.Answer, error) {
	if q.Seen == nil {
		return nil, errors.New("a look into packages asked for a signature")
	}
	*s = append(*s, api.PackageSeen{File: q.Seen.File, SHA256: q.Seen.SHA256, Facts: q.Seen.Facts})
	return nil, nil
}

func (c checklists) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	var all seen
	if err := c.inside(ctx, i, packaging.Work{Files: step.Checklist.Files, Look: true,
		Symbols: step.Checklist.Symbols}, &all); err != nil {
		return Outcome{Err: err}
	}
	var judged api.Judged
	for _, one := range all { // each by itself: what is told of many together could be too much for a request
		err := c.Attempt.Insist(ctx, "judging the packages", func() error {
			some, err := c.Attempt.Post.Judge(ctx, c.Attempt.ID(), api.PackagesSeen{Step: i,
				Packages: []api.PackageSeen{one}})
			if err == nil {
				judged.Packages = append(judged.Packages, some.Packages...)
			}
			return err
		})
		if err != nil {
			return Outcome{Err: err}
		}
	}
	var first string
	wrong := 0
	for n, p := range judged.Packages {
		f := all[n].Facts
		size := quantity.Bytes(f.Size)
		if p.LastSize > 0 {
			size += fmt.Sprintf(" (run %d: %s)", p.LastRun, quantity.Bytes(p.LastSize))
		}
		c.Attempt.Say(i, "%s: %s %s (%s), %s, rules against: %d", p.File, f.ID, f.Version, f.Build, size, len(p.Findings))
		for _, finding := range p.Findings {
			if finding.Accepted != "" {
				c.Attempt.Say(i, "  accepted until %s: %s [%s]; %s", finding.Until, finding.Message, finding.Rule,
					finding.Accepted)
				continue
			}
			level := map[bool]string{true: "error", false: "warning"}[finding.Against()]
			if finding.Asked {
				level = "people are asked"
			}
			c.Attempt.Say(i, "  %s: %s [%s]", level, finding.Message, finding.Rule)
			c.Attempt.Say(i, "    %s", finding.Fix)
			if !finding.Against() {
				continue
			}
			if wrong++; wrong == 1 {
				first = p.File + ": " + finding.Message
			}
		}
	}
	switch {
	case wrong == 1:
		return Outcome{Err: errors.New(first)}
	case wrong > 1:
		return Outcome{Err: fmt.Errorf("%s; and %d more", first, wrong-1)}
	}
	return Outcome{}
}
