package cli

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/timing"
)

func timesCommand() *cli.Command {
	return &cli.Command{
		Name:      "times",
		Usage:     "tell where the time goes: of a pipeline's last runs, of one step, or of one run",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Without RUN: the steps of the pipeline, those that take most first, with their middle time, a " +
			"line of the last\nruns, and since when they take longer. With --step the history of one, and what changed " +
			"with it. With RUN its\ncritical path, what would have made it shorter, and what was slower than usual.\n\n" +
			terminal.Example("piston times tidewick --pipeline build", "piston times tidewick --step \"core/compile\"",
				"piston times tidewick 41"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "pipeline", Usage: "of this one; without it of the one that ran last"},
			&cli.StringFlag{Name: "branch", Usage: "only runs of this branch"},
			&cli.StringFlag{Name: "step", Usage: "the history of this step, as JOB/STEP"},
			&cli.StringFlag{Name: "machine", Usage: "of the step: only on this kind of machine"},
			terminal.LimitFlag(120, 500), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			f := api.TimesFilter{Pipeline: c.String("pipeline"), Branch: c.String("branch"), Limit: c.Int("limit")}
			switch step := c.String("step"); {
			case args[1] != "":
				return terminal.AboutRun(runTimes, "PROJECT", "RUN")(ctx, c)
			case step != "":
				job, name, is := strings.Cut(step, "/")
				if !is {
					return terminal.Usage("--step is JOB/STEP, such as core/compile, not %q", step)
				}
				return stepTimes(ctx, c, cl, args[0],
					api.StepFilter{TimesFilter: f, Job: job, Step: name, Machine: c.String("machine")})
			}
			t, err := cl.Times(ctx, args[0], f)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, t, err)
			}
			showTimes(terminal.NewScreen(terminal.Out(c)), t)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

// lineOf is how many of the last runs a line of bars shows.
const lineOf = 30

func showTimes(s *terminal.Screen, t api.Times) {
	if len(t.Runs) == 0 {
		s.Line("No run has a history yet: it is written when a job ends.")
		return
	}
	var total, waited, prepared []int64
	hits, misses := 0, 0
	for _, r := range t.Runs {
		total, waited, prepared = append(total, r.Total), append(waited, r.Waited), append(prepared, r.Prepared)
		hits, misses = hits+r.Hits, misses+r.Misses
	}
	first, last := t.Runs[0], t.Runs[len(t.Runs)-1]
	s.Line("%s  %s", s.In(terminal.Strong, t.Pipeline), s.In(terminal.Faint,
		fmt.Sprintf("%d runs, %d to %d; pipelines: %s", len(t.Runs), first.Run, last.Run, strings.Join(t.Pipelines, ", "))))
	if t.SetBack {
		s.Line("%s", s.In(terminal.Magenta, "these runs were set back in time, for show"))
	}
	for _, part := range []struct {
		word string
		list []int64
	}{{"by the clock", total}, {"waiting", waited}, {"preparing", prepared}} {
		s.Line("  %-14s %s %s", part.word, terminal.Spark(part.list[max(0, len(part.list)-lineOf):]),
			s.In(terminal.Faint, "last "+terminal.Span(part.list[len(part.list)-1])))
	}
	if hits+misses > 0 {
		s.Line("  %-14s %d of %d times", "cache found", hits, hits+misses)
	}
	s.Line("")
	var rows [][]string
	for i, step := range t.Steps {
		var took []int64
		for _, r := range t.Runs[max(0, len(t.Runs)-lineOf):] {
			took = append(took, r.Steps[i])
		}
		rows = append(rows, []string{terminal.Short(step.Job+"/"+step.Step, 44), terminal.Span(step.Median),
			terminal.Span(step.High), terminal.Span(step.Most), fmt.Sprint(step.Runs), terminal.Spark(took),
			changesWord(s, step.Changes)})
	}
	s.Table([]string{"STEP", "MEDIAN", "3 OF 4 BELOW", "MOST", "RUNS", "LAST RUNS", "CHANGED"}, rows)
}

// changesWord tells the last change of a step's time, and the greatest where that is another: of many small ones the
// one that matters is seldom the last.
func changesWord(s *terminal.Screen, list []api.TimedChange) string {
	if len(list) == 0 {
		return ""
	}
	size := func(c api.TimedChange) float64 { return math.Abs(math.Log(float64(c.Now+1) / float64(c.Before+1))) }
	greatest := slices.MaxFunc(list, func(a, b api.TimedChange) int { return cmp.Compare(size(a), size(b)) })
	last := list[len(list)-1]
	if greatest == last {
		return changeWord(s, last)
	}
	return changeWord(s, greatest) + "; " + changeWord(s, last)
}

// changeWord tells one change of a step's time.
func changeWord(s *terminal.Screen, c api.TimedChange) string {
	colour, word := terminal.Green, "quicker"
	if c.Now > c.Before {
		colour, word = terminal.Red, "slower"
	}
	return s.In(colour, fmt.Sprintf("%s since %s: %s → %s", word, runWord(c.Run, c.First, c.Last),
		terminal.Span(c.Before), terminal.Span(c.Now)))
}

// runWord names the run that something began with, and from which to which it may have been as well.
func runWord(run, first, last record.RunNumber) string {
	if first == last {
		return fmt.Sprintf("run %d", run)
	}
	return fmt.Sprintf("about run %d (one of %d to %d)", run, first, last)
}

func stepTimes(ctx context.Context, c *cli.Command, cl *client.Client, project string, f api.StepFilter) error {
	t, err := cl.StepTimes(ctx, project, f)
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, t, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s", s.In(terminal.Strong, terminal.Short(t.Job+" › "+t.Step, 80)), s.In(terminal.Faint, t.Machine))
	s.Line("  median %s, half of the runs between %s and %s, at most %s", terminal.Span(t.Median), terminal.Span(t.Low),
		terminal.Span(t.High), terminal.Span(t.TimedStep.Most))
	s.Line("")
	most := 1
	for _, b := range t.Bars {
		most = max(most, b.N)
	}
	for _, b := range t.Bars {
		s.Line("  %9s  %s %d", terminal.Span(b.From), strings.Repeat("█", b.N*40/most), b.N)
	}
	for _, w := range t.What {
		s.Line("")
		s.Line("%s  %s", changeWord(s, w.TimedChange), "what was different there:")
		showDifferences(s, w.Since)
	}
	s.Line("")
	var rows [][]string
	for i := len(t.Series) - 1; i >= max(0, len(t.Series)-20); i-- {
		r := t.Series[i]
		rows = append(rows, []string{fmt.Sprint(r.Run), r.State, terminal.Span(r.Took), terminal.Ago(r.At),
			fmt.Sprintf("%.9s", r.Commit), terminal.Short(r.Subject, 50)})
	}
	s.Table([]string{"RUN", "STATE", "TOOK", "WHEN", "COMMIT", "SUBJECT"}, rows)
	return nil
}

func runTimes(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber,
	_ string) error {
	t, err := cl.RunTimes(ctx, project, n)
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, t, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s", s.In(terminal.Strong, "What had to end before the next could begin:"))
	var rows [][]string
	for _, p := range t.Critical {
		rows = append(rows, []string{"  " + terminal.Span(p.From), p.Job, stretchWord(p), terminal.Span(p.Took)})
	}
	s.Table([]string{"  AFTER", "JOB", "WHAT", "TOOK"}, rows)
	for _, one := range t.Shorter {
		s.Line("%s", shorterWord(s, one))
	}
	for _, one := range t.Slower {
		s.Line("")
		since := fmt.Sprintf("since %s, %d runs now", runWord(one.SinceRun, one.First, one.Last), one.Runs)
		if one.SinceRun == n {
			since = "for the first time"
		}
		s.Line("%s %s › %s took %s, usually %s; %s. Different there:", s.In(terminal.Red, "slower than usual:"), one.Job,
			terminal.Short(one.Step, 60), terminal.Span(one.Took), terminal.Span(one.Usual), since)
		showDifferences(s, one.Since)
	}
	return nil
}

func stretchWord(p timing.Stretch) string {
	if p.Kind == timing.Stepping {
		return terminal.Short(p.Step, 60)
	}
	if p.Kind == timing.Tried {
		return "(tried before)"
	}
	return "(" + string(p.Kind) + ")"
}

// shorterWord says what would have made a run shorter.
func shorterWord(s *terminal.Screen, one timing.Shorter) string {
	saved := s.In(terminal.Green, terminal.Span(one.Saves)+" less")
	switch one.Kind {
	case timing.OneMoreMachine:
		return saved + " with one more machine"
	case timing.StepReused:
		return fmt.Sprintf("%s if %s › %s were reused (inputs)", saved, one.Job, terminal.Short(one.Step, 60))
	default:
		return fmt.Sprintf("%s if %s did not come after %s", saved, one.Job, one.Other)
	}
}
