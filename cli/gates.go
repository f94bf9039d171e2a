package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

func gatesCommand() *cli.Command {
	return &cli.Command{
		Name:      "gates",
		Usage:     "list what people are asked before runs go on",
		ArgsUsage: "[PROJECT]",
		Description: "Of all projects, or of one: what waits for an answer; with --all what has been answered, too.\n\n" +
			terminal.Example("piston gates --mine", "piston gates tidewick --all"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "mine", Usage: "only what you may answer now"},
			&cli.BoolFlag{Name: "all", Usage: "also what is over"},
			&cli.Int64Flag{Name: "before", Usage: "only what was asked before this one"},
			terminal.LimitFlag(20, 200), terminal.JSONFlag,
		},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Gates(ctx, client.GateFilter{Project: args[0], Open: !c.Bool("all"), Mine: c.Bool("mine"),
				Before: c.Int64("before"), Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Gates, page.Next, err,
				[]string{"ID", "RUN", "JOB", "QUESTION", "HOW IT STANDS", "ASKED"},
				func(_ *terminal.Screen, g api.Gate) []string {
					return []string{fmt.Sprint(g.ID), fmt.Sprintf("%s %d", g.Project, g.Run), g.Job,
						terminal.Short(g.Question, 60), terminal.GateWord(g), terminal.Ago(g.Asked)}
				}, "Nobody is asked anything.", "piston gates "+args[0])
		}, "[PROJECT]"),
	}
}

func answerCommand() *cli.Command {
	return &cli.Command{
		Name:      "answer",
		Usage:     "say yes or no where a run waits for people",
		ArgsUsage: "PROJECT RUN yes|no",
		Description: "Shows the question and takes the answer; what you say stands in the audit trail, with your comment. " +
			"One no ends it.\n" +
			"piston gates --mine lists what you may answer.\n\n" +
			terminal.Example("piston answer tidewick 12 yes --comment 'looks well on the small screen'",
				"piston answer tidewick 12 no --job go --comment 'the chart of Skagen is empty'"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "comment", Usage: "why, for whoever looks at it later"},
			&cli.StringFlag{Name: "job", Usage: "which job, when several of the run wait"},
			terminal.JSONFlag,
		},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
			n record.RunNumber, said string) error {
			if said != "yes" && said != "no" {
				return terminal.Usage("%q is no answer: say yes or no", said)
			}
			d, err := cl.Run(ctx, project, n)
			if err != nil {
				return err
			}
			asked, err := gateMeant(d, c.String("job"))
			if err != nil {
				return err
			}
			g, err := cl.Answer(ctx, project, asked.ID, api.GateAnswer{Yes: said == "yes", Comment: c.String("comment")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, g, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("%s", s.In(terminal.Strong, terminal.Short(g.Question, 200)))
			s.Line("You said %s: %s.", said, terminal.GateWord(g))
			return nil
		}, "PROJECT", "RUN", "ANSWER"),
	}
}

// gateMeant finds which gate of a run is meant: that of a job, or the only one that waits.
func gateMeant(d api.RunDetail, job string) (*api.Gate, error) {
	var open []*api.Gate
	var names []string
	for _, j := range d.Jobs {
		if j.Gate == nil || job != "" && j.Name != job {
			continue
		}
		if job != "" {
			return j.Gate, nil // the service says when it is over
		}
		if j.State == state.Waiting {
			open, names = append(open, j.Gate), append(names, j.Name)
		}
	}
	switch len(open) {
	case 1:
		return open[0], nil
	case 0:
		if job != "" {
			return nil, terminal.Ending(terminal.ExitFailed, fmt.Errorf("run %d asks nobody in a job %q", d.Number, job))
		}
		return nil, terminal.Ending(terminal.ExitFailed, fmt.Errorf("run %d waits for no answer: it is %s", d.Number,
			d.State))
	}
	return nil, terminal.Usage("several jobs of run %d wait: say which by --job, one of %s", d.Number,
		strings.Join(names, ", "))
}
