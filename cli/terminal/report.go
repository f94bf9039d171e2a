package terminal

import (
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
)

// Run prints a run for a person: the failure first, then where the time went, then what it made.
func (s *Screen) Run(d api.RunDetail) {
	s.Line("%s  %s, %s of %s", s.State(d.State), s.In(Strong, runWord(d.Run)), d.Pipeline, Where(d.Run))
	s.Line("   %s", strings.TrimRight(fmt.Sprintf("%s  %s", Short(d.Subject, 70), s.In(Faint, Short(d.Author, 30))), " "))
	if b := Built(d.Run); b != "" {
		s.Line("   %s", "build "+b)
	}
	for _, f := range d.Findings {
		s.Line("")
		s.Line("%s", f.String())
	}
	if d.Failure != nil {
		s.failure(*d.Failure)
	} else if d.Reason != "" && len(d.Findings) == 0 {
		s.Line("   %s", Short(d.Reason, 200))
	}
	for i, r := range d.Reported {
		if i == 0 {
			s.Line("")
		}
		s.Line("%s %s", s.In(Magenta, "only reported:"),
			strings.TrimSuffix(Short(r.Job+" › "+r.Step, 100), " › ")+": "+Short(r.Reason, 200))
	}
	if len(d.Jobs) > 0 {
		s.Line("")
		s.jobs(d)
		s.notes(d)
	}
	if len(d.Artifacts) > 0 {
		s.Line("")
		var rows [][]string
		for _, a := range d.Artifacts {
			rows = append(rows, []string{a.Job, Short(a.Path, 60), quantity.Bytes(a.Size), a.SHA256})
		}
		s.Table([]string{"JOB", "ARTIFACT", "SIZE", "SHA-256"}, rows)
	}
}

// runWord names a run; one that was tried on this machine has no number.
func runWord(r api.Run) string {
	if r.Number == 0 {
		return "trial"
	}
	return fmt.Sprintf("run %d", r.Number)
}

func (s *Screen) failure(f api.Failure) {
	s.Line("")
	place := f.Job
	if f.Step != "" {
		place += " › " + Short(f.Step, 60)
	}
	s.Line("%s %s", s.In(Red, place+":"), Short(f.Reason, 300))
	if c := f.Cause; c != nil {
		s.Line("   %s. %s", s.In(Strong, Short(c.Title, 100)), Short(c.Means, 600))
		s.Line("   %s %s", s.In(Green, "what to do:"), Short(c.Do, 600))
	}
	if f.Seen != nil {
		s.Line("   %s", s.seenBefore(*f.Seen))
	}
	for _, t := range f.Tests {
		s.Line("   %s %s: %s", s.In(Red, "✗"), Short(t.Suite+" › "+t.Name, 80), Short(t.Message, 160))
		if t.File != "" && !strings.Contains(t.Message, testPlace(t.Case)) { // many say it themselves
			s.Line("     %s", s.In(Faint, testPlace(t.Case)))
		}
	}
	for _, l := range f.Lines {
		s.Line("%s %s", s.In(Faint, fmt.Sprintf("%6d", l.N)), CleanLine(l.Text, s.Colour))
	}
}

// seenBefore tells how often a failure was seen before, and what ended it.
func (s *Screen) seenBefore(f api.FailureSeen) string {
	text := fmt.Sprintf("the same was seen in %d runs, first in run %d, last in run %d (%s)", f.Times,
		f.FirstRun, f.LastRun, Ago(f.Last))
	if f.Times == 1 {
		text = fmt.Sprintf("the same was seen in run %d (%s)", f.LastRun, Ago(f.Last))
	}
	if g := f.Gone; g != nil {
		text += fmt.Sprintf("; the last time it went away with run %d: %.9s %s", g.Run, g.Commit, Short(g.Subject, 60))
	}
	return s.In(Magenta, text)
}

// testPlace is where a case failed.
func testPlace(c testreport.Case) string {
	if c.Line > 0 {
		return fmt.Sprintf("%s:%d", Short(c.File, 120), c.Line)
	}
	return Short(c.File, 120)
}

// barWidth is how many characters the time axis has.
const barWidth = 40

// jobs prints each step with its time and a bar on the run's time axis.
func (s *Screen) jobs(d api.RunDetail) {
	end := d.Now
	if d.Finished != nil {
		end = *d.Finished
	}
	total, worked := max(1, end.Sub(d.Queued).Milliseconds()), axisOf(d)
	cell := func(t time.Time) int { return int(max(0, min(worked.at(t)*barWidth/worked.total, barWidth))) }
	for _, j := range d.Jobs {
		head := fmt.Sprintf("%s  %s", s.State(j.State), s.In(Strong, j.Name))
		if j.Reason != "" && (d.Failure == nil || j.Reason != d.Failure.Reason) {
			head += "  " + s.In(Faint, Short(j.Reason, 100))
		}
		if j.Attempt > 1 {
			head += s.In(Faint, fmt.Sprintf("  attempt %d", j.Attempt))
		}
		s.Line("%s", head)
		if j.Gate != nil {
			s.Line("     %s", s.In(Strong, Short(j.Gate.Question, 200)))
			s.gate(*j.Gate)
		}
		if j.Claimed == nil {
			continue
		}
		s.Line("     %-28s %8s  %s", "queued, prepared", Span(j.Timing.Queue+j.Timing.Prepare),
			s.In(Faint, fmt.Sprintf("queue %s, preparation %s", Span(j.Timing.Queue), Span(j.Timing.Prepare))))
		for _, st := range j.Steps {
			bar, took := "", ""
			if st.Started != nil {
				stepEnd := end
				if st.Finished != nil {
					stepEnd = *st.Finished
				}
				from, to := cell(*st.Started), cell(stepEnd)
				bar = strings.Repeat(" ", from) + strings.Repeat("█", max(1, to-from))
				took = Span(stepEnd.Sub(*st.Started).Milliseconds())
			}
			note := ""
			if st.Name == j.Timing.Slowest && len(j.Steps) > 1 {
				note = " slowest"
			}
			switch failed := st.State == state.Failed || st.State == state.TimedOut; {
			case failed && st.Advisory:
				note += " only reported"
			case st.State == state.Reused:
				note += " reused " + Short(st.Reason, 80)
			case st.State != state.Passed:
				note += " " + string(st.State)
			}
			s.Line("   %s %-28s %8s  %s%s", s.In(signs[st.State].colour, signs[st.State].sign), Short(st.Name, 28), took,
				s.In(signs[st.State].colour, bar), s.In(Faint, note))
		}
		for _, c := range j.Caches {
			s.Line("     %s", s.In(Faint, strings.TrimRight(fmt.Sprintf("cache %s: %s %s", c.Name, CacheWord(c),
				Short(c.Note, 80)), " ")))
		}
		if t := j.Tests; t != nil {
			s.Line("     %s", fmt.Sprintf("tests: %d passed, %d failed, %d skipped", t.Passed, t.Failed, t.Skipped))
		}
	}
	sum := "total " + Span(total)
	if asked := total - worked.total; len(worked.pauses) > 0 {
		sum += ", of which people were asked for " + Span(asked)
	}
	s.Line("%s", s.In(Faint, sum))
}

// noteLines is how many lines of a note are shown; the run's page has all.
const noteLines = 40

// notes prints what steps have put on the run's page, as it is written.
func (s *Screen) notes(d api.RunDetail) {
	for _, j := range d.Jobs {
		for _, st := range j.Steps {
			if st.Note == "" {
				continue
			}
			s.Line("")
			s.Line("%s %s", s.In(Strong, Short(st.Name, 60)), s.In(Faint, "of "+j.Name))
			lines := strings.Split(st.Note, "\n")
			for _, l := range lines[:min(len(lines), noteLines)] {
				s.Line("   %s", CleanLine(l, false))
			}
			if more := len(lines) - noteLines; more > 0 {
				s.Line("   %s", s.In(Faint, fmt.Sprintf("… %d more lines", more)))
			}
		}
	}
}

// Built is version name and build number.
func Built(r api.Run) string {
	switch {
	case r.BuildNumber == 0:
		return ""
	case r.VersionName == "":
		return fmt.Sprintf("(%d)", r.BuildNumber)
	}
	return fmt.Sprintf("%s (%d)", r.VersionName, r.BuildNumber)
}

// Quoted writes a word for a shell.
func Quoted(word string) string {
	if word != "" && strings.Trim(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-+./") == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// CacheWord says what came of a cache.
func CacheWord(c api.CacheUse) string {
	of := ""
	if c.Run > 0 {
		of = fmt.Sprintf(" of run %d", c.Run)
	}
	if c.Line != "" {
		of += " on " + c.Line
	}
	from := "fetched"
	if c.Here {
		from = "already on the runner"
	}
	word := "miss"
	switch {
	case c.Hit:
		word = fmt.Sprintf("hit%s, %s", of, from)
	case c.Nearest:
		word = fmt.Sprintf("miss; the nearest%s, %s", of, from)
	}
	if c.Saved {
		word += fmt.Sprintf("; saved, %s new", quantity.Bytes(c.Stored))
	}
	return fmt.Sprintf("%s; %s in %s", word, quantity.Bytes(c.Size), Span(c.TookMs))
}
