package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// stepWhy is why a step of a run was reused, or was not.
type stepWhy struct {
	Job   string      `json:"job"`
	Step  string      `json:"step"`
	State state.State `json:"state"`
	*api.Reuse
}

func whyCommand() *cli.Command {
	return &cli.Command{
		Name:      "why",
		Usage:     "tell why steps of a run were reused, or what has changed that they were not",
		ArgsUsage: "PROJECT RUN [JOB [STEP]]",
		Description: "Of a step that says what it reads (inputs): what differs from the nearest time that it passed, file " +
			"by file, with its script, variables, tools and secrets.\n\n" +
			terminal.Example("piston why tidewick 41", "piston why tidewick last android \"compile the core\" --json"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			job, step := c.Args().Get(2), c.Args().Get(3)
			if c.Args().Len() > 4 {
				return terminal.Usage("give PROJECT RUN [JOB [STEP]]")
			}
			return terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
				n record.RunNumber, _ string) error {
				d, err := cl.Run(ctx, project, n)
				if err != nil {
					return err
				}
				list, err := whys(d, job, step)
				if err != nil || c.Bool("json") {
					return terminal.OrJSON(c, list, err)
				}
				showWhys(terminal.NewScreen(terminal.Out(c)), list)
				return nil
			}, "PROJECT", "RUN", "[JOB]", "[STEP]")(ctx, c)
		},
	}
}

// whys gathers what is told of the steps that are meant.
func whys(d api.RunDetail, job, step string) ([]stepWhy, error) {
	list, seen := []stepWhy{}, false
	for _, j := range d.Jobs {
		for _, s := range j.Steps {
			if job != "" && j.Name != job || step != "" && s.Name != step {
				continue
			}
			seen = true
			if s.Reuse != nil {
				list = append(list, stepWhy{j.Name, s.Name, s.State, s.Reuse})
			}
		}
	}
	if !seen {
		what := fmt.Sprintf("no job %q", job)
		if step != "" {
			what += fmt.Sprintf(" with a step %q", step)
		}
		return nil, terminal.Usage("run %d has %s: piston show %s %d lists them", d.Number, what, d.Project, d.Number)
	}
	return list, nil
}

func showWhys(s *terminal.Screen, list []stepWhy) {
	if len(list) == 0 {
		s.Line("None of these steps says what it reads (inputs), or has come so far: they are run each time.")
	}
	for _, w := range list {
		var says string
		switch {
		case w.State == state.Reused:
			says = fmt.Sprintf("reused, of run %d, where it took %s", w.Run,
				quantity.Span(time.Duration(w.TookMs)*time.Millisecond))
		case w.Unlike != "":
			says = "audited: it is not reproducible: " + w.Unlike
		case w.Run == 0:
			says = string(w.State) + ": nothing is kept that it could be compared with"
		case len(w.Differs) == 0:
			says = fmt.Sprintf("%s: the same as in run %d", w.State, w.Run)
		default:
			says = fmt.Sprintf("%s: %s since run %d", w.State, changes(len(w.Differs)+w.More), w.Run)
		}
		s.Line("%s, %s", w.Job, w.Step)
		s.Line("  %s", says)
		for _, name := range w.Differs {
			if w.State != state.Reused {
				s.Line("    %s", terminal.CleanLine(name, false))
			}
		}
		if w.More > 0 {
			s.Line("    %s", s.In(terminal.Faint, fmt.Sprintf("and %d more", w.More)))
		}
	}
}

func changes(n int) string {
	if n == 1 {
		return "1 thing that it depends on has changed"
	}
	return fmt.Sprintf("%d things that it depends on have changed", n)
}
