package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func searchCommand() *cli.Command {
	return &cli.Command{
		Name:      "search",
		Usage:     "look for text in the logs of all runs of a project, the latest first",
		ArgsUsage: "PROJECT TEXT",
		Description: "In capitals or not; with --pattern TEXT is a pattern (RE2). Ends with 1 when it is nowhere.\n\n" +
			terminal.Example("piston search tidewick \"undefined reference\"",
				"piston search tidewick 'E: .* not found' --pattern --run 41"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "pattern", Usage: "TEXT is a pattern (RE2)"},
			&cli.Int64Flag{Name: "run", Usage: "only in this run", HideDefault: true},
			&cli.StringFlag{Name: "job", Usage: "only in this job"},
			terminal.LimitFlag(100, 5000), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			f := api.LogSearch{For: args[1], Pattern: c.Bool("pattern"), Run: record.RunNumber(c.Int64("run")),
				Job: c.String("job")}
			s := terminal.NewScreen(terminal.Out(c))
			all := api.LogFound{Hits: []api.LogHit{}}
			for {
				f.Limit = min(c.Int("limit")-len(all.Hits), 500)
				part, err := cl.SearchLogs(ctx, args[0], f)
				if err != nil {
					return err
				}
				all.Looked, all.Next = all.Looked+part.Looked, part.Next
				for _, h := range part.Hits {
					all.Hits = append(all.Hits, h)
					if !c.Bool("json") {
						s.Line("%s %s", s.In(terminal.Faint, fmt.Sprintf("run %d %s:%d:", h.Run, h.Job, h.Line.N)),
							terminal.CleanLine(h.Line.Text, s.Colour))
					}
				}
				if f.After = part.Next; part.Next == "" || len(all.Hits) >= c.Int("limit") {
					break
				}
			}
			if c.Bool("json") {
				return terminal.OrJSON(c, all, nil)
			}
			if len(all.Hits) == 0 {
				return terminal.Ending(terminal.ExitFailed, fmt.Errorf("%q is in none of the %d logs", args[1], all.Looked))
			}
			if all.Next != "" {
				s.Line("%s", s.In(terminal.Faint, "there may be more: a higher --limit goes on"))
			}
			return nil
		}, "PROJECT", "TEXT"),
	}
}
