package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
)

func runsCommand() *cli.Command {
	return &cli.Command{
		Name:        "runs",
		Usage:       "list a project's runs, newest first",
		ArgsUsage:   "PROJECT",
		Description: example("piston runs tidewick --state failed --limit 5"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "pipeline", Usage: "only of this pipeline"},
			&cli.StringFlag{Name: "branch", Usage: "only of this branch"},
			&cli.StringFlag{Name: "state", Usage: "only in this state, such as failed"},
			&cli.StringFlag{Name: "commit", Usage: "only of this commit, by its id or how that begins"},
			&cli.Int64Flag{Name: "before", Usage: "only runs before this number"},
			limitFlag(20, 200),
			jsonFlag,
		},
		Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Runs(ctx, args[0], client.RunFilter{Pipeline: c.String("pipeline"), Branch: c.String("branch"),
				State: c.String("state"), Commit: c.String("commit"), Before: c.Int64("before"), Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return orJSON(c, page, err)
			}
			s := newScreen(out(c))
			if len(page.Runs) == 0 {
				s.line("No such runs.")
				return nil
			}
			var rows [][]string
			for _, r := range page.Runs {
				note := short(r.Subject, 44)
				if r.Reason != "" && r.FailedAt == "" && r.State.Over() {
					note = s.in(faint, short(r.Reason, 44))
				}
				if r.FailedAt != "" {
					note = s.in(red, short(r.FailedAt, 44))
				}
				rows = append(rows, []string{fmt.Sprint(r.Number), s.state(r.State), r.Pipeline, where(r), built(r), took(r),
					ago(r.Queued), note})
			}
			s.table([]string{"RUN", "STATE", "PIPELINE", "OF", "BUILD", "TOOK", "WHEN", "FAILED AT / COMMIT"}, rows)
			if page.Next != 0 {
				s.line("%s", s.in(faint, fmt.Sprintf("More: piston runs %s --before %d", args[0], page.Next)))
			}
			return nil
		}, "PROJECT"),
	}
}

// built is version name and build number.
func built(r api.Run) string {
	switch {
	case r.BuildNumber == 0:
		return ""
	case r.VersionName == "":
		return fmt.Sprintf("(%d)", r.BuildNumber)
	}
	return fmt.Sprintf("%s (%d)", r.VersionName, r.BuildNumber)
}

func showCommand() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "show a run: what failed, where the time went, what it made",
		ArgsUsage:   "PROJECT [RUN]",
		Description: aboutRunHelp + "\n\n" + example("piston show tidewick 12", "piston show tidewick HEAD"),
		Flags:       []cli.Flag{jsonFlag},
		Action: aboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64,
			file string) error {
			d, err := cl.Run(ctx, project, n)
			if err != nil || c.Bool("json") {
				return orJSON(c, d, err)
			}
			newScreen(out(c)).run(d)
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
			example("piston stop tidewick 12"),
		Flags: []cli.Flag{jsonFlag},
		Action: aboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64,
			file string) error {
			if err := cl.StopRun(ctx, project, n); err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(out(c), map[string]any{"project": project, "run": n, "stopping": true})
			}
			fmt.Fprintf(out(c), "Run %d is being stopped.\n", n)
			return nil
		}, "PROJECT", "RUN"),
	}
}
