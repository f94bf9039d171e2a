package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func runsCommand() *cli.Command {
	return &cli.Command{
		Name:        "runs",
		Usage:       "list a project's runs, newest first",
		ArgsUsage:   "PROJECT",
		Description: terminal.Example("piston runs tidewick --state failed --limit 5"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "pipeline", Usage: "only of this pipeline"},
			&cli.StringFlag{Name: "branch", Usage: "only of this branch"},
			&cli.StringFlag{Name: "state", Usage: "only in this state, such as failed"},
			&cli.StringFlag{Name: "commit", Usage: "only of this commit, by its id or how that begins"},
			&cli.Int64Flag{Name: "before", Usage: "only runs before this number"},
			&cli.BoolFlag{Name: "tries", Usage: "those of searches for the first bad change (piston bisect), too"},
			terminal.LimitFlag(20, 200),
			terminal.JSONFlag,
		},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Runs(ctx, args[0], client.RunFilter{Pipeline: c.String("pipeline"), Branch: c.String("branch"),
				State: c.String("state"), Commit: c.String("commit"), Before: record.RunNumber(c.Int64("before")),
				Limit: c.Int("limit"), Tries: c.Bool("tries")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, page, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			if len(page.Runs) == 0 {
				s.Line("No such runs.")
				return nil
			}
			var rows [][]string
			for _, r := range page.Runs {
				note := terminal.Short(r.Subject, 44)
				if r.Reason != "" && r.FailedAt == "" && r.State.Over() {
					note = s.In(terminal.Faint, terminal.Short(r.Reason, 44))
				}
				if r.FailedAt != "" {
					note = s.In(terminal.Red, terminal.Short(r.FailedAt, 44))
				}
				rows = append(rows, []string{fmt.Sprint(r.Number), s.State(r.State), r.Pipeline, terminal.Where(r),
					terminal.Built(r), terminal.Took(r),
					terminal.Ago(r.Queued), note})
			}
			s.Table([]string{"RUN", "STATE", "PIPELINE", "OF", "BUILD", "TOOK", "WHEN", "FAILED AT / COMMIT"}, rows)
			if page.Next != 0 {
				s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: piston runs %s --before %d", args[0], page.Next)))
			}
			return nil
		}, "PROJECT"),
	}
}

func showCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "show a run: what failed, where the time went, what it made",
		ArgsUsage: "PROJECT [RUN]",
		Description: terminal.AboutRunHelp + "\n\n" + terminal.Example("piston show tidewick 12",
			"piston show tidewick HEAD"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, file string) error {
			d, err := cl.Run(ctx, project, n)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, d, err)
			}
			terminal.NewScreen(terminal.Out(c)).Run(d)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

func stopCommand() *cli.Command {
	return &cli.Command{
		Name:      "stop",
		Usage:     "stop a run",
		ArgsUsage: "PROJECT RUN",
		Description: "What waits is cancelled at once; steps at hand are asked to end, then killed.\n\n" +
			terminal.Example("piston stop tidewick 12"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, file string) error {
			if err := cl.StopRun(ctx, project, n); err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(terminal.Out(c), map[string]any{"project": project, "run": n, "stopping": true})
			}
			fmt.Fprintf(terminal.Out(c), "Run %d is being stopped.\n", n)
			return nil
		}, "PROJECT", "RUN"),
	}
}
