package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
)

func usageCommand() *cli.Command {
	return &cli.Command{
		Name:      "usage",
		Usage:     "tell how many minutes machines were at work, for what, and what could have been spared",
		ArgsUsage: "[PROJECT]",
		Description: "Of one project, or, for an administrator, of all. --budget gives a project minutes for each month: " +
			"keepers are warned\nbefore they are used up, and with --hold it is held then.\n\n" +
			terminal.Example("piston usage tidewick --by person", "piston usage --by project --month 2026-11",
				"piston usage tidewick --budget 600 --warn-at 75 --hold"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "by", Usage: "project, pipeline, job, machine or person"},
			&cli.StringFlag{Name: "month", Usage: "such as 2026-11; without it this one"},
			&cli.Int64Flag{Name: "budget", Usage: "give the project so many minutes a month; 0 takes its budget back",
				HideDefault: true},
			&cli.IntFlag{Name: "warn-at", Usage: "with --budget: warn from so many per cent of it on", Value: 80},
			&cli.BoolFlag{Name: "hold", Usage: "with --budget: hold the project once it is used up"},
			terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			f := api.UsageFilter{By: c.String("by"), Month: c.String("month")}
			if f.By == "" {
				f.By = map[bool]string{true: "project", false: "pipeline"}[args[0] == ""]
			}
			if c.IsSet("budget") {
				if args[0] == "" {
					return terminal.Usage("say whose budget it is: piston usage PROJECT --budget MINUTES")
				}
				if err := setBudget(ctx, c, cl, args[0]); err != nil {
					return err
				}
			}
			u, err := cl.Usage(ctx, args[0], f)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, u, err)
			}
			showUsage(terminal.NewScreen(terminal.Out(c)), u, f.By)
			return nil
		}, "[PROJECT]"),
	}
}

func setBudget(ctx context.Context, c *cli.Command, cl *client.Client, project string) error {
	if c.Int64("budget") == 0 {
		return cl.DropBudget(ctx, project)
	}
	_, err := cl.SetBudget(ctx, project, api.NewBudget{Minutes: c.Int64("budget"), WarnAt: c.Int("warn-at"),
		Hold: c.Bool("hold")})
	return err
}

// wasteWords say what could have been spared.
var wasteWords = map[string]string{"superseded": "runs that a newer push made needless", "repeated": "jobs tried again",
	"flaky": "failures of what passed unchanged", "missed-caches": "longer since a cache was missed",
	"planning": "failed before they began"}

func showUsage(s *terminal.Screen, u api.Usage, by string) {
	used := fmt.Sprintf("%s  %s used", s.In(terminal.Strong, u.Month), terminal.Span(u.Used))
	if u.Month == time.Now().UTC().Format("2006-01") { // of one that is over it is known
		used += fmt.Sprintf(", %s by the month's end if it goes on as in the last four weeks", terminal.Span(u.Forecast))
	}
	s.Line("%s", used)
	if b := u.Budget; b != nil {
		colour := map[string]string{"fine": terminal.Green, "warned": terminal.Yellow, "spent": terminal.Red}[b.State]
		s.Line("%s", s.In(colour, fmt.Sprintf("budget: %d %% of %d min (%s)", b.Percent, b.Minutes, b.State)))
	}
	var months []int64
	for _, m := range u.Months {
		months = append(months, m.Used)
	}
	if len(months) > 1 {
		s.Line("%s to %s  %s", u.Months[0].Month, u.Month, terminal.Spark(months))
	}
	s.Line("")
	var rows [][]string
	for _, p := range u.Parts {
		rows = append(rows, []string{terminal.Short(p.Name, 60), terminal.Span(p.Used),
			fmt.Sprintf("%d %%", p.Used*100/max(1, u.Used)), fmt.Sprint(p.Runs), terminal.Span(p.Waited)})
	}
	s.Table([]string{map[string]string{"project": "PROJECT", "pipeline": "PIPELINE", "job": "JOB", "machine": "MACHINE",
		"person": "PERSON"}[by], "USED", "SHARE", "RUNS", "WAITED"}, rows)
	s.Line("")
	s.Line("What could have been spared:")
	rows = nil
	for _, w := range u.Waste {
		rows = append(rows, []string{"  " + wasteWords[w.Name], terminal.Span(w.Used), fmt.Sprint(w.Runs)})
	}
	s.Table([]string{"  WHY", "USED", "RUNS"}, rows)
}
