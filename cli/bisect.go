package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/record"
)

// askedEvery is how often a search that is followed is asked how it stands.
const askedEvery = time.Second

func bisectCommand() *cli.Command {
	return &cli.Command{
		Name:      "bisect",
		Usage:     "find the first change with which a job fails, by running it at the changes between",
		ArgsUsage: "PROJECT [RUN]",
		Description: "The run failed, and one before it on its branch passed. The job that failed is run at the changes " +
			"between,\nby halves, on machines that nobody else wants: one try after another. A try is a run that keeps " +
			"nothing,\nraises no number and is told to nobody. Jobs that ask people, raise, land, sign, check, " +
			"release or publish\nare not tried.\n" +
			"When there is a search already, it is shown. A pipeline that says bisect = true has it done by itself.\n" +
			"With --follow the exit code is 0 when the change was found, else 1.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston bisect tidewick 12 --follow", "piston bisect tidewick 12 --job core --stop"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "job", Usage: "the job; needed when several have failed"},
			&cli.BoolFlag{Name: "follow", Usage: "tell each try, and wait for the end"},
			&cli.BoolFlag{Name: "anew", Usage: "begin again, when there was a search before"},
			&cli.BoolFlag{Name: "stop", Usage: "stop the search, and what it has at work"}, terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
			n record.RunNumber, _ string) error {
			b, err := searchMeant(ctx, c, cl, project, n)
			if err != nil {
				return err
			}
			if c.Bool("stop") {
				err := cl.StopBisection(ctx, project, n, b.Job)
				if err != nil || c.Bool("json") {
					return terminal.OrJSON(c, struct{}{}, err)
				}
				terminal.NewScreen(terminal.Out(c)).Line("The search is stopped.")
				return nil
			}
			if !c.Bool("follow") {
				if c.Bool("json") {
					return terminal.OrJSON(c, b, nil)
				}
				s := terminal.NewScreen(terminal.Out(c))
				told := 0
				tellSearch(s, b, &told)
				if b.State == api.BisectionSearching {
					s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("At most %d tries from here. To follow it: piston bisect %s %d "+
						"--job %s --follow", b.Most, project, n, b.Job)))
				}
				return nil
			}
			return followSearch(ctx, c, cl, project, b)
		}, "PROJECT", "[RUN]"),
	}
}

// searchMeant is the search that is meant: the one there is, or one that is begun.
func searchMeant(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber) (
	api.Bisection, error) {
	list, err := cl.Bisections(ctx, project, n)
	if err != nil {
		return api.Bisection{}, err
	}
	job := c.String("job")
	i := slices.IndexFunc(list, func(b api.Bisection) bool { return b.Job == job || job == "" && len(list) == 1 })
	if i >= 0 && (!c.Bool("anew") || c.Bool("stop")) {
		return list[i], nil
	}
	if c.Bool("stop") {
		return api.Bisection{}, fmt.Errorf("nothing is searched in run %d, or several things are: say which by --job", n)
	}
	return cl.BeginBisection(ctx, project, n, api.NewBisection{Job: job})
}

// followSearch tells each try as it is judged, until the search is over.
func followSearch(ctx context.Context, c *cli.Command, cl *client.Client, project string, b api.Bisection) error {
	s := terminal.NewScreen(terminal.Out(c))
	told := 0
	for {
		if !c.Bool("json") {
			tellSearch(s, b, &told)
		}
		if b.State != api.BisectionSearching {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(askedEvery):
		}
		list, err := cl.Bisections(ctx, project, b.Run)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(list, func(one api.Bisection) bool { return one.Job == b.Job })
		if i < 0 {
			return fmt.Errorf("the search is no longer there: its run was removed")
		}
		b = list[i]
	}
	if c.Bool("json") {
		if err := terminal.PrintJSON(terminal.Out(c), b); err != nil {
			return err
		}
	}
	if b.State != api.BisectionFound {
		return terminal.Ending(terminal.ExitFailed, nil)
	}
	return nil
}

// tellSearch tells what is new of a search: told is how many lines of it were told before.
func tellSearch(s *terminal.Screen, b api.Bisection, told *int) {
	lines := []string{fmt.Sprintf("Job %s passed in run %d and fails in run %d: one of %d changes between.", b.Job, b.Good,
		b.Run, b.Among)}
	for _, t := range b.Tries {
		if t.Verdict != "" {
			lines = append(lines, tryLine(s, t))
		}
	}
	if b.State != api.BisectionSearching {
		lines = append(lines, foundLines(s, b)...)
	}
	for _, l := range lines[min(*told, len(lines)):] {
		s.Line("%s", l)
	}
	*told = len(lines)
}

func tryLine(s *terminal.Screen, t api.BisectionTry) string {
	colour := map[bisect.Verdict]string{bisect.Passed: terminal.Green, bisect.Failed: terminal.Red,
		bisect.Unclear: terminal.Yellow}[t.Verdict]
	line := fmt.Sprintf("  %s  %.9s  %s", s.In(colour, fmt.Sprintf("%-7s", t.Verdict)), t.ID,
		terminal.Short(t.Subject, 60))
	if t.Run != 0 {
		line += s.In(terminal.Faint, fmt.Sprintf("  run %d", t.Run))
	}
	if t.Why != "" {
		line += s.In(terminal.Faint, ": "+t.Why)
	}
	return line
}

// foundLines tell how a search ended.
func foundLines(s *terminal.Screen, b api.Bisection) (lines []string) {
	switch b.State {
	case api.BisectionChance:
		return []string{"It passes at its own commit when it is tried again: no change is to blame, it fails by chance."}
	case api.BisectionStopped:
		lines = []string{fmt.Sprintf("It was stopped (%s); it is one of %d changes:", b.Why, b.Left)}
	case api.BisectionUnclear:
		lines = []string{fmt.Sprintf("It is one of %d changes; those between could not be judged:", b.Left)}
	default:
		lines = []string{s.In(terminal.Strong, "The first bad change:")}
	}
	for _, c := range b.Suspects {
		lines = append(lines, fmt.Sprintf("  %.12s  %s  %s", c.ID, terminal.Short(c.Subject, 60),
			s.In(terminal.Faint, c.Author)))
	}
	if more := b.Left - len(b.Suspects); more > 0 {
		lines = append(lines, fmt.Sprintf("  and %d more", more))
	}
	return lines
}
