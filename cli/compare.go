package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
)

func compareCommand() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "tell in what a job's log differs from that of another run",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Times, hashes, addresses and temporary files count for nothing. Without --with, the other run is " +
			"the last that\npassed; without --job, it is the job that failed.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston compare tidewick 12", "piston compare tidewick 12 --with 9 --job core"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "job", Usage: "the job"},
			&cli.Int64Flag{Name: "with", Usage: "the other run", HideDefault: true}, terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
			n record.RunNumber, _ string) error {
			job, err := jobToCompare(ctx, cl, project, n, c.String("job"))
			if err != nil {
				return err
			}
			other := record.RunNumber(c.Int64("with"))
			if other == 0 {
				since, err := cl.Since(ctx, project, n)
				if err != nil {
					return err
				}
				if other = since.Run; other == 0 {
					return terminal.Usage("no run of that pipeline has passed before run %d: say by --with which to compare with", n)
				}
			}
			d, err := cl.CompareLogs(ctx, project, n, job, other)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, d, err)
			}
			tellDifferences(terminal.NewScreen(terminal.Out(c)), d)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

// jobToCompare is the job that is meant: the one of that name, the one that failed, or the only one.
func jobToCompare(ctx context.Context, cl *client.Client, project string, n record.RunNumber, name string) (string,
	error) {
	if name != "" {
		return name, nil
	}
	d, err := cl.Run(ctx, project, n)
	switch {
	case err != nil:
		return "", err
	case d.Failure != nil:
		return d.Failure.Job, nil
	case len(d.Jobs) == 1:
		return d.Jobs[0].Name, nil
	}
	return "", terminal.Usage("run %d has several jobs, and none has failed: say by --job which is meant", n)
}

func tellDifferences(s *terminal.Screen, d api.LogComparison) {
	s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("- %s in run %d (%s, %d lines)", d.Was.Job, d.Was.Run, d.Was.State,
		d.Was.Lines)))
	s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("+ %s in run %d (%s, %d lines)", d.Is.Job, d.Is.Run, d.Is.State,
		d.Is.Lines)))
	if d.Different == 0 {
		s.Line("Nothing differs but times, hashes and the like.")
	}
	line := func(sign, colour string, l logline.Line) {
		s.Line("%s %s", s.In(colour, fmt.Sprintf("%s%7d", sign, l.N)), terminal.CleanLine(l.Text, s.Colour))
	}
	for _, p := range d.Parts {
		switch {
		case p.Hidden > 0:
			s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("  … %d lines are the same", p.Hidden)))
		case p.Same:
			for _, l := range p.Is {
				line(" ", terminal.Faint, l)
			}
		default:
			for _, l := range p.Was {
				line("-", terminal.Yellow, l)
			}
			for _, l := range p.Is {
				line("+", terminal.Strong, l)
			}
		}
	}
	for _, side := range []api.LogSide{d.Was, d.Is} {
		if side.From > 1 {
			s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("Of run %d only what comes from line %d on was compared.", side.Run,
				side.From)))
		}
	}
	if d.Rough {
		s.Line("%s", s.In(terminal.Faint, "The logs differ in so much that less may differ than is shown."))
	}
	if d.More {
		s.Line("%s", s.In(terminal.Faint, "More differs than is shown."))
	}
}
