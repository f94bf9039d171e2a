package cli

import (
	"fmt"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
)

// run prints a run for a person: the failure first, then where the time went, then what it made.
func (s *screen) run(d api.RunDetail) {
	s.line("%s  %s, %s of %s", s.state(d.State), s.in(strong, runWord(d.Run)), d.Pipeline, where(d.Run))
	s.line("   %s", strings.TrimRight(fmt.Sprintf("%s  %s", short(d.Subject, 70), s.in(faint, short(d.Author, 30))), " "))
	if b := built(d.Run); b != "" {
		s.line("   %s", "build "+b)
	}
	for _, f := range d.Findings {
		s.line("")
		s.line("%s", f.String())
	}
	if d.Failure != nil {
		s.failure(*d.Failure)
	} else if d.Reason != "" && len(d.Findings) == 0 {
		s.line("   %s", short(d.Reason, 200))
	}
	for i, r := range d.Reported {
		if i == 0 {
			s.line("")
		}
		s.line("%s %s", s.in(magenta, "only reported:"),
			strings.TrimSuffix(short(r.Job+" › "+r.Step, 100), " › ")+": "+short(r.Reason, 200))
	}
	if len(d.Jobs) > 0 {
		s.line("")
		s.jobs(d)
		s.notes(d)
	}
	if len(d.Artifacts) > 0 {
		s.line("")
		var rows [][]string
		for _, a := range d.Artifacts {
			rows = append(rows, []string{a.Job, short(a.Path, 60), quantity.Bytes(a.Size), a.SHA256})
		}
		s.table([]string{"JOB", "ARTIFACT", "SIZE", "SHA-256"}, rows)
	}
}

// runWord names a run; one that was tried on this machine has no number.
func runWord(r api.Run) string {
	if r.Number == 0 {
		return "trial"
	}
	return fmt.Sprintf("run %d", r.Number)
}

func (s *screen) failure(f api.Failure) {
	s.line("")
	place := f.Job
	if f.Step != "" {
		place += " › " + short(f.Step, 60)
	}
	s.line("%s %s", s.in(red, place+":"), short(f.Reason, 300))
	for _, t := range f.Tests {
		s.line("   %s %s: %s", s.in(red, "✗"), short(t.Suite+" › "+t.Name, 80), short(t.Message, 160))
		if t.File != "" && !strings.Contains(t.Message, testPlace(t.Case)) { // many say it themselves
			s.line("     %s", s.in(faint, testPlace(t.Case)))
		}
	}
	for _, l := range f.Lines {
		s.line("%s %s", s.in(faint, fmt.Sprintf("%6d", l.N)), cleanLine(l.Text, s.colour))
	}
}

// testPlace is where a case failed.
func testPlace(c testreport.Case) string {
	if c.Line > 0 {
		return fmt.Sprintf("%s:%d", short(c.File, 120), c.Line)
	}
	return short(c.File, 120)
}

// barWidth is how many characters the time axis has.
const barWidth = 40

// jobs prints each step with its time and a bar on the run's time axis.
func (s *screen) jobs(d api.RunDetail) {
	end := d.Now
	if d.Finished != nil {
		end = *d.Finished
	}
	total := max(1, end.Sub(d.Queued).Milliseconds())
	cell := func(ms int64) int { return int(max(0, min(ms*barWidth/total, barWidth))) }
	for _, j := range d.Jobs {
		head := fmt.Sprintf("%s  %s", s.state(j.State), s.in(strong, j.Name))
		if j.Reason != "" && (d.Failure == nil || j.Reason != d.Failure.Reason) {
			head += "  " + s.in(faint, short(j.Reason, 100))
		}
		if j.Attempt > 1 {
			head += s.in(faint, fmt.Sprintf("  attempt %d", j.Attempt))
		}
		s.line("%s", head)
		if j.Claimed == nil {
			continue
		}
		s.line("     %-28s %8s  %s", "queued, prepared", span(j.Timing.Queue+j.Timing.Prepare),
			s.in(faint, fmt.Sprintf("queue %s, preparation %s", span(j.Timing.Queue), span(j.Timing.Prepare))))
		for _, st := range j.Steps {
			bar, took := "", ""
			if st.Started != nil {
				stepEnd := end
				if st.Finished != nil {
					stepEnd = *st.Finished
				}
				from, to := cell(st.Started.Sub(d.Queued).Milliseconds()), cell(stepEnd.Sub(d.Queued).Milliseconds())
				bar = strings.Repeat(" ", from) + strings.Repeat("█", max(1, to-from))
				took = span(stepEnd.Sub(*st.Started).Milliseconds())
			}
			note := ""
			if st.Name == j.Timing.Slowest && len(j.Steps) > 1 {
				note = " slowest"
			}
			switch failed := st.State == state.Failed || st.State == state.TimedOut; {
			case failed && st.Advisory:
				note += " only reported"
			case st.State != state.Passed:
				note += " " + string(st.State)
			}
			s.line("   %s %-28s %8s  %s%s", s.in(signs[st.State].colour, signs[st.State].sign), short(st.Name, 28), took,
				s.in(signs[st.State].colour, bar), s.in(faint, note))
		}
		for _, c := range j.Caches {
			word := "miss"
			if c.Hit {
				word = "hit"
			} else if c.Saved {
				word = "miss, saved"
			}
			s.line("     %s", s.in(faint,
				strings.TrimRight(fmt.Sprintf("cache %s: %s, %s in %s %s", c.Name, word, quantity.Bytes(c.Size), span(c.TookMs),
					short(c.Note, 80)), " ")))
		}
		if t := j.Tests; t != nil {
			s.line("     %s", fmt.Sprintf("tests: %d passed, %d failed, %d skipped", t.Passed, t.Failed, t.Skipped))
		}
	}
	s.line("%s", s.in(faint, "total "+span(total)))
}

// noteLines is how many lines of a note are shown; the run's page has all.
const noteLines = 40

// notes prints what steps have put on the run's page, as it is written.
func (s *screen) notes(d api.RunDetail) {
	for _, j := range d.Jobs {
		for _, st := range j.Steps {
			if st.Note == "" {
				continue
			}
			s.line("%s %s", s.in(strong, short(st.Name, 60)), s.in(faint, "of "+j.Name))
			lines := strings.Split(st.Note, "\n")
			for _, l := range lines[:min(len(lines), noteLines)] {
				s.line("   %s", cleanLine(l, false))
			}
			if more := len(lines) - noteLines; more > 0 {
				s.line("   %s", s.in(faint, fmt.Sprintf("… %d more lines", more)))
			}
		}
	}
}
