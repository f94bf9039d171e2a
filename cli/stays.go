package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

// mostListed is how many workspaces that stay are looked through for the one that is meant.
const mostListed = 500

var jobFlag = &cli.StringFlag{Name: "job", Usage: "the job whose workspace it is; needed when several stay"}

func staysCommand() *cli.Command {
	return &cli.Command{
		Name:      "stays",
		Usage:     "list the workspaces that stay on their machines after their job, for a look around",
		ArgsUsage: "[PROJECT]",
		Description: "A job whose pipeline says stay = \"15m\" leaves its workspace when it has failed; piston stay " +
			"has one do so\nwhile its job runs.\n\n" + terminal.Example("piston stays", "piston stays tidewick --over"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "runner", Usage: "only those on this runner"},
			&cli.BoolFlag{Name: "over", Usage: "those that are over, too"}, terminal.LimitFlag(100, mostListed),
			terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.Stays(ctx, api.StayFilter{Project: args[0], Runner: c.String("runner"), Over: c.Bool("over"),
				Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, list, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			if len(list) == 0 {
				s.Line("No workspace stays. piston stay PROJECT RUN --job JOB has one do so while its job runs.")
				return nil
			}
			var rows [][]string
			for _, one := range list {
				by := one.By
				if by == "" {
					by = "its pipeline"
				}
				rows = append(rows, []string{one.Project, fmt.Sprint(one.Run), one.Job, one.Runner, stayWord(one), by,
					fmt.Sprint(one.Shells)})
			}
			s.Table([]string{"PROJECT", "RUN", "JOB", "RUNNER", "STATE", "ASKED BY", "SHELLS"}, rows)
			return nil
		}, "[PROJECT]"),
	}
}

// stayWord tells how a workspace that stays stands.
func stayWord(s api.Stay) string {
	switch {
	case s.State == api.StayAsked:
		return fmt.Sprintf("for %d min, once its job has ended", s.Minutes)
	case s.State == api.StayOver:
		return "over: " + s.Why
	case s.Until == nil:
		return string(s.State)
	}
	return fmt.Sprintf("until %s, %s left", s.Until.Local().Format("15:04"),
		terminal.Span(max(0, time.Until(*s.Until).Milliseconds())))
}

func stayCommand() *cli.Command {
	return &cli.Command{
		Name:      "stay",
		Usage:     "have a job's workspace stay when it has ended, or for longer; or let it go",
		ArgsUsage: "PROJECT [RUN]",
		Description: "While the job is at work, its workspace stays from its end on, however that comes. One that stays " +
			"does so for\nas long as is said from now on. " + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston stay tidewick 12 --job android", "piston stay tidewick 12 --job android --let-go"),
		Flags: []cli.Flag{jobFlag,
			&cli.DurationFlag{Name: "for", Usage: "how long, at most 8h", Value: 15 * time.Minute},
			&cli.BoolFlag{Name: "let-go", Usage: "let it go: nobody looks around any more"}, terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
			n record.RunNumber, _ string) error {
			job, err := whichJob(ctx, c, cl, project, n)
			if err != nil {
				return err
			}
			if c.Bool("let-go") {
				err := cl.EndStay(ctx, project, n, job)
				if err != nil || c.Bool("json") {
					return terminal.OrJSON(c, struct{}{}, err)
				}
				terminal.NewScreen(terminal.Out(c)).Line("The workspace of %s is let go.", job)
				return nil
			}
			long := c.Duration("for")
			if long < time.Minute || long > api.MaxStayMinutes*time.Minute || long%time.Minute != 0 {
				return terminal.Usage("--for takes whole minutes, from 1m to 8h")
			}
			one, err := cl.AskStay(ctx, project, n, job, api.NewStay{Minutes: int(long.Minutes())})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, one, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("The workspace of %s stays %s.", job, stayWord(one))
			s.Line("Look around:  piston shell %s %d --job %s", project, n, job)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

// whichJob is the job that is meant: the flag's, or the only one of the run whose workspace stays, or that is at work.
func whichJob(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber) (string,
	error) {
	if job := c.String("job"); job != "" {
		return job, nil
	}
	list, err := cl.Stays(ctx, api.StayFilter{Project: project, Limit: mostListed})
	if err != nil {
		return "", err
	}
	var jobs []string
	for _, one := range list {
		if one.Run == n {
			jobs = append(jobs, one.Job)
		}
	}
	if len(jobs) == 1 {
		return jobs[0], nil
	}
	if len(jobs) == 0 {
		return "", fmt.Errorf("no workspace of run %d stays; say with --job whose is meant, or see piston stays --over", n)
	}
	return "", terminal.Usage("several workspaces of run %d stay: choose by --job one of %q", n, jobs)
}

func shellsCommand() *cli.Command {
	return &cli.Command{
		Name:      "shells",
		Usage:     "list who has looked around in a project's workspaces; read a recording; grant secrets",
		ArgsUsage: "PROJECT",
		Description: "What a shell shows is recorded as asciicast v2, which players know. A shell that asks for secrets " +
			"waits until\na keeper grants them, for that one shell.\n\n" +
			terminal.Example("piston shells tidewick", "piston shells tidewick --recording 7 > look.cast",
				"piston shells tidewick --grant 8"),
		Flags: []cli.Flag{&cli.IntFlag{Name: "run", Usage: "only those of this run", HideDefault: true},
			&cli.IntFlag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
			&cli.IntFlag{Name: "recording", Usage: "print what this one showed", HideDefault: true},
			&cli.IntFlag{Name: "grant", Usage: "let this one have the secrets it asks for", HideDefault: true},
			terminal.LimitFlag(50, mostListed), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			switch {
			case c.Int("recording") > 0:
				return copyRecording(ctx, c, cl, args[0])
			case c.Int("grant") > 0:
				err := cl.GrantShell(ctx, args[0], record.ShellID(c.Int("grant")))
				if err != nil || c.Bool("json") {
					return terminal.OrJSON(c, struct{}{}, err)
				}
				terminal.NewScreen(terminal.Out(c)).Line("Granted: shell %d has its secrets.", c.Int("grant"))
				return nil
			}
			list, err := cl.Shells(ctx, args[0], api.ShellFilter{Run: record.RunNumber(c.Int("run")),
				Before: record.ShellID(c.Int("before")), Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, list, err)
			}
			showShells(terminal.NewScreen(terminal.Out(c)), list, c.Int("limit"))
			return nil
		}, "PROJECT"),
	}
}
