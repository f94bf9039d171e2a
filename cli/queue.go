package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func queueCommand() *cli.Command {
	return &cli.Command{
		Name:        "queue",
		Usage:       "list the jobs that wait, and what each waits for",
		ArgsUsage:   "[PROJECT]",
		Description: terminal.Example("piston queue", "piston queue tidewick --run 41"),
		Flags: []cli.Flag{
			&cli.Int64Flag{Name: "run", Usage: "only of this run"},
			&cli.IntFlag{Name: "after", Usage: "only behind this place"},
			terminal.LimitFlag(50, 500),
			terminal.JSONFlag,
		},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Queue(ctx,
				client.QueueFilter{Project: args[0], Run: record.RunNumber(c.Int64("run")), After: c.Int("after"),
					Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, page, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("%d waiting, %d at work, room for %d", page.Total,
				page.Working, page.Slots)))
			var rows [][]string
			for _, j := range page.Jobs {
				rows = append(rows, []string{strconv.Itoa(j.Place), j.Project, strconv.FormatInt(int64(j.Run), 10),
					terminal.Short(j.Pipeline, 20),
					s.In(terminal.Strong, terminal.Short(j.Job, 30)),
					terminal.Ago(j.Queued), terminal.Short(j.Why, 100)})
			}
			if rows != nil {
				s.Table([]string{"PLACE", "PROJECT", "RUN", "PIPELINE", "JOB", "SINCE", "WAITS FOR"}, rows)
			}
			if page.Next != 0 {
				s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: piston queue --after %d", page.Next)))
			}
			return nil
		}, "[PROJECT]"),
	}
}

func holdCommands() []*cli.Command {
	return []*cli.Command{
		{
			Name:      "hold",
			Usage:     "keep a project's jobs from being handed out",
			ArgsUsage: "NAME",
			Description: "What is at work goes on. The reason is shown with each job that waits.\n\n" +
				terminal.Example("piston project hold tidewick --because 'the feed is down'"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "because", Usage: "why", Value: "held by hand"}, terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				p, err := cl.Hold(ctx, args[0], c.String("because"))
				return told(c, p, err, fmt.Sprintf("Jobs of %s wait until piston project resume %s.", args[0], args[0]))
			}, "NAME"),
		},
		{
			Name:        "resume",
			Usage:       "let a held project's jobs go again",
			ArgsUsage:   "NAME",
			Description: terminal.Example("piston project resume tidewick"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				p, err := cl.Hold(ctx, args[0], "")
				return told(c, p, err, fmt.Sprintf("Jobs of %s are handed out again.", args[0]))
			}, "NAME"),
		},
		{
			Name:      "network",
			Usage:     "say whether a project's steps may be given a machine's own network",
			ArgsUsage: "NAME host|outside",
			Description: "With host, a step that says network = \"host\" is given it by runners that allow it, but never in " +
				"a proposal from\n" +
				"outside. An administrator says so.\n\n" + terminal.Example("piston project network tidewick host"),
			Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				if args[1] != "host" && args[1] != "outside" {
					return terminal.Usage("%q is neither host nor outside", args[1])
				}
				p, err := cl.AllowHostNetwork(ctx, args[0], args[1] == "host")
				sentence := fmt.Sprintf("Steps of %s are given no machine's own network.", args[0])
				if args[1] == "host" {
					sentence = fmt.Sprintf("Steps of %s that ask for it may be given the machine's own network.", args[0])
				}
				return told(c, p, err, sentence)
			}, "NAME", "host|outside"),
		},
		{
			Name:        "limit",
			Usage:       "bound how many jobs of a project are at work at once",
			ArgsUsage:   "NAME JOBS",
			Description: "0 for any number.\n\n" + terminal.Example("piston project limit tidewick 4"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				n, err := strconv.Atoi(args[1])
				if err != nil || n < 0 {
					return terminal.Usage("%q is no number of jobs", args[1])
				}
				p, err := cl.LimitProject(ctx, args[0], n)
				return told(c, p, err, fmt.Sprintf("At most %d jobs of %s are at work at once (0: any number).", n, args[0]))
			}, "NAME", "JOBS"),
		},
	}
}

// told answers a command that changes something: in JSON what it is now, else by a sentence.
func told(c *cli.Command, v any, err error, sentence string) error {
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, v, err)
	}
	terminal.NewScreen(terminal.Out(c)).Line("%s", sentence)
	return nil
}

func schedulesCommand() *cli.Command {
	return &cli.Command{
		Name:      "schedules",
		Usage:     "list when a project's pipelines are due",
		ArgsUsage: "PROJECT",
		Description: "Schedules are those of the pipelines on the main branch.\n\n" +
			terminal.Example("piston schedules tidewick"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.Schedules(ctx, args[0])
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, list, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			if len(list) == 0 {
				s.Line("No pipeline of %s has a schedule.", args[0])
				return nil
			}
			var rows [][]string
			for _, d := range list {
				next := d.Next
				if zone, err := time.LoadLocation(d.Zone); err == nil {
					next = next.In(zone)
				}
				last := ""
				if d.LastRun > 0 {
					last = fmt.Sprintf("run %d", d.LastRun)
				}
				rows = append(rows, []string{d.Pipeline, d.Name, next.Format("Mon 2006-01-02 15:04 MST"), d.Cron, d.Zone, last,
					terminal.Short(d.Note, 80)})
			}
			s.Table([]string{"PIPELINE", "SCHEDULE", "NEXT", "CRON", "ZONE", "LAST", "NOTE"}, rows)
			return nil
		}, "PROJECT"),
	}
}
