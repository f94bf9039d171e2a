package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/cause"
)

func failuresCommand() *cli.Command {
	return &cli.Command{
		Name:      "failures",
		Usage:     "list what failed, each failure once: how often, since when, and with which change it went away",
		ArgsUsage: "PROJECT",
		Description: "A failure is the same when step, cause and the line that tells it are, but for numbers and hashes. " +
			"What its cause means,\nand what to do, tells piston show of a run, or piston causes NAME.\n\n" +
			terminal.Example("piston failures tidewick", "piston failures tidewick --contains linker"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "contains", Usage: "only with this in what was said, title, job or step"},
			&cli.StringFlag{Name: "cause", Usage: "only of this cause, as piston causes names it"},
			&cli.IntFlag{Name: "skip", Usage: "what a page before said under More", HideDefault: true},
			terminal.LimitFlag(30, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Failures(ctx, args[0], api.FailureFilter{Contains: c.String("contains"), Cause: c.String("cause"),
				Skip: c.Int("skip"), Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, page, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			var rows [][]string
			for _, f := range page.Failures {
				at := terminal.Short(strings.TrimSuffix(f.Job+" › "+f.Step, " › "), 40)
				rows = append(rows, []string{fmt.Sprint(f.Times), at,
					terminal.Short(f.Title, 40), fmt.Sprint(f.FirstRun), fmt.Sprintf("%d, %s", f.LastRun, terminal.Ago(f.Last)),
					goneWord(s, f.FailureSeen), terminal.Short(f.Said, 100)})
			}
			if len(rows) == 0 {
				s.Line("Nothing has failed yet, or nothing with that in it.")
				return nil
			}
			s.Table([]string{"RUNS", "STEP", "CAUSE", "FIRST", "LAST", "WENT AWAY WITH", "SAID"}, rows)
			if page.Next > 0 {
				s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --skip %d", page.Next)))
			}
			return nil
		}, "PROJECT"),
	}
}

// goneWord tells with which run a failure went away.
func goneWord(s *terminal.Screen, f api.FailureSeen) string {
	text := ""
	if g := f.Gone; g != nil {
		text = fmt.Sprintf("run %d: %.9s %s", g.Run, g.Commit, terminal.Short(g.Subject, 40))
	}
	if f.Still && text != "" {
		return s.In(terminal.Red, "is back; before with ") + text
	}
	if f.Still {
		return s.In(terminal.Red, "still there")
	}
	return text
}

func causesCommand() *cli.Command {
	return &cli.Command{
		Name:      "causes",
		Usage:     "list the causes of failures that the service knows, or tell of one",
		ArgsUsage: "[NAME]",
		Description: "A team adds its own in piston/causes.toml of the repository: docs/reference/pipeline.md tells how. " +
			"This needs no service.\n\n" + terminal.Example("piston causes", "piston causes lock-stale"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "[NAME]")
			if err != nil {
				return err
			}
			list := cause.With(nil)
			if args[0] == "" {
				return terminal.Listed(c, list.All(), nil, []string{"NAME", "WHAT IT IS", "WHAT TO DO"},
					func(_ *terminal.Screen, v cause.Cause) []string { return []string{v.Name, v.Title, v.Do} }, "None.")
			}
			one, is := list.Named(args[0])
			if !is {
				return terminal.Usage("no cause is called %q: piston causes lists them", args[0])
			}
			if c.Bool("json") {
				return terminal.OrJSON(c, one, nil)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("%s  %s", s.In(terminal.Strong, one.Title), s.In(terminal.Faint, one.Name))
			s.Line("%s", one.Means)
			s.Line("%s %s", s.In(terminal.Green, "what to do:"), one.Do)
			for _, e := range one.Examples {
				s.Line("  %s", s.In(terminal.Faint, e))
			}
			return nil
		},
	}
}
