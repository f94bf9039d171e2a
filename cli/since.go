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

func sinceCommand() *cli.Command {
	return &cli.Command{
		Name:      "since",
		Usage:     "tell what has changed since a run's pipeline last passed",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Commits, the pipeline's definition, versions of tools, caches, revisions of secrets.\n" +
			terminal.AboutRunHelp +
			"\n\n" + terminal.Example("piston since tidewick 12"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, _ string) error {
			d, err := cl.Since(ctx, project, n)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, d, err)
			}
			showSince(terminal.NewScreen(terminal.Out(c)), n, d)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

func showSince(s *terminal.Screen, run record.RunNumber, d api.Since) {
	if d.Run == 0 {
		s.Line("No run of this pipeline has passed before run %d.", run)
		return
	}
	s.Line("%s", s.In(terminal.Strong, fmt.Sprintf("Run %d beside run %d, which passed:", run, d.Run)))
	showDifferences(s, d)
}

// showDifferences lists what differs between two runs.
func showDifferences(s *terminal.Screen, d api.Since) {
	for _, c := range d.Commits {
		s.Line("  commit      %s %s  %s", s.In(terminal.Yellow, fmt.Sprintf("%.9s", c.ID)), terminal.Short(c.Subject, 60),
			s.In(terminal.Faint, terminal.Short(c.Author, 30)))
	}
	n := len(d.Commits)
	for _, part := range []struct {
		word string
		list []api.Difference
	}{{"definition", d.Definition}, {"tool", d.Tools}, {"cache", d.Caches}, {"secret", d.Secrets}, {"runner", d.Runners}} {
		for _, v := range part.list {
			n++
			s.Line("  %-11s %s  %s → %s", part.word, terminal.Short(v.What, 60), orNothing(terminal.Short(v.Before, 60)),
				orNothing(terminal.Short(v.After, 60)))
		}
	}
	if n == 0 {
		s.Line("  nothing: the same commit, definition, tools, caches and secrets")
	}
}

func orNothing(text string) string {
	if text == "" {
		return "(none)"
	}
	return text
}
