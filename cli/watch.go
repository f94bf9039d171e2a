package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name:      "watch",
		Usage:     "follow a run as it happens; fails when the run fails",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Prints every line of every job, then the report. Of a commit that several pipelines build, all " +
			"their runs, one\n" +
			"after the other. Exit code 0 when they passed, 1 when one did not. With --json each event is one line of JSON,\n" +
			"and each run is one when it is over.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("git push && piston watch tidewick", "piston watch tidewick 12"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			runs, err := terminal.RunsMeant(ctx, cl, args[0], args[1])
			if err != nil {
				return err
			}
			passed := true
			for _, n := range runs {
				d, err := watch(ctx, c, cl, args[0], n)
				if err != nil {
					return err
				}
				if c.Bool("json") {
					err = terminal.PrintJSON(terminal.Out(c), d)
				} else {
					terminal.NewScreen(terminal.Out(c)).Run(d)
				}
				if err != nil {
					return err
				}
				passed = passed && d.State == state.Passed
			}
			if !passed {
				return terminal.Ending(terminal.ExitFailed, nil)
			}
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

var errOver = errors.New("the run is over")

// watch prints a run's log lines as they come and returns the run when it is over and every line has been printed.
func watch(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber) (api.RunDetail,
	error) {
	s := terminal.NewScreen(terminal.Out(c))
	print := func(b api.LogBatch) error {
		if c.Bool("json") {
			return terminal.PrintJSON(terminal.Out(c), b)
		}
		s.LogLines(b)
		return nil
	}
	printed := map[string]int64{} // last line of each attempt's log
	var asked record.GateID       // the last that was told of
	name := func(job string, attempt int) string { return fmt.Sprintf("%s.%d", job, attempt) }
	look := func() error {
		d, err := cl.Run(ctx, project, n)
		if err == nil && d.State.Over() {
			return errOver
		}
		for _, j := range d.Jobs {
			if j.State == state.Waiting && j.Gate != nil && j.Gate.ID > asked && !c.Bool("json") {
				asked = j.Gate.ID
				s.Asked(*j.Gate)
			}
		}
		return err
	}
	err := cl.Stream(ctx, client.Topic{Project: project, Run: n, Log: "*"}, "", func(e client.Event) error {
		switch {
		case e.Log != nil:
			printed[name(e.Log.Job, e.Log.Attempt)] = e.Log.Lines[len(e.Log.Lines)-1].N
			return print(*e.Log)
		case e.Change == nil || e.Change.State.Over() || e.Change.State == state.Waiting:
			return look() // at the beginning, and when it says so
		}
		return nil
	})
	if err != nil && !errors.Is(err, errOver) {
		return api.RunDetail{}, err
	}
	// The end of a run may be told before its last lines; they are read where they are kept.
	d, err := cl.Run(ctx, project, n)
	if err != nil {
		return d, err
	}
	for _, j := range d.Jobs {
		for _, a := range j.Attempts {
			if err := rest(ctx, cl, project, n, j.Name, a.Number, printed[name(j.Name, a.Number)]+1, print); err != nil {
				return d, err
			}
		}
	}
	return d, nil
}

// rest reads a log from a line on to its end.
func rest(ctx context.Context, cl *client.Client, project string, run record.RunNumber, job string, attempt int,
	from int64,
	take func(api.LogBatch) error) error {
	for {
		part, err := cl.Log(ctx, project, run, job, client.LogQuery{Attempt: attempt, From: from, Limit: 5000})
		if err != nil || len(part.Lines) == 0 {
			return err
		}
		if err := take(api.LogBatch{Job: job, Attempt: part.Attempt, Lines: part.Lines}); err != nil {
			return err
		}
		from = part.Lines[len(part.Lines)-1].N + 1
	}
}

func logCommand() *cli.Command {
	return &cli.Command{
		Name:      "log",
		Usage:     "print the log of a run's jobs",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Without --job, all jobs one after the other.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston log tidewick 12 --job android", "piston log tidewick 12 --job android --tail 50"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "job", Usage: "only of this job"},
			&cli.IntFlag{Name: "attempt", Usage: "of this attempt; default the latest"},
			&cli.Int64Flag{Name: "from", Usage: "from this line on"},
			&cli.Int64Flag{Name: "tail", Usage: "only the last so many lines"},
			&cli.BoolFlag{Name: "numbers", Usage: "print line numbers"},
			terminal.JSONFlag,
		},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, file string) error {
			jobs := []string{c.String("job")}
			if jobs[0] == "" {
				d, err := cl.Run(ctx, project, n)
				if err != nil {
					return err
				}
				jobs = nil
				for _, j := range d.Jobs {
					jobs = append(jobs, j.Name)
				}
			}
			s := terminal.NewScreen(terminal.Out(c))
			for _, job := range jobs {
				if len(jobs) > 1 && !c.Bool("json") {
					s.Line("%s", s.In(terminal.Strong, "== "+job))
				}
				if err := printLog(ctx, c, cl, s, project, n, job); err != nil {
					return err
				}
			}
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

func printLog(ctx context.Context, c *cli.Command, cl *client.Client, s *terminal.Screen, project string,
	run record.RunNumber, job string) error {
	from := max(c.Int64("from"), 1)
	if tail := c.Int64("tail"); tail > 0 {
		part, err := cl.Log(ctx, project, run, job, client.LogQuery{Attempt: c.Int("attempt"), Tail: tail, Limit: 1})
		if err != nil {
			return err
		}
		from = max(1, part.Total-tail+1)
	}
	return rest(ctx, cl, project, run, job, c.Int("attempt"), from, func(b api.LogBatch) error {
		if c.Bool("json") {
			return terminal.PrintJSON(terminal.Out(c), b)
		}
		for _, l := range b.Lines {
			if c.Bool("numbers") {
				s.Line("%s %s", s.In(terminal.Faint, fmt.Sprintf("%7d", l.N)), terminal.CleanLine(l.Text, s.Colour))
			} else {
				s.Line("%s", terminal.CleanLine(l.Text, s.Colour))
			}
		}
		return nil
	})
}
