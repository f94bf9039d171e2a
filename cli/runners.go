package cli

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
)

func runnersCommand() *cli.Command {
	return &cli.Command{
		Name: "runners", Usage: "list the machines that execute jobs",
		Description: terminal.Example("piston runners", "piston runners --contains mac"), Flags: terminal.PageFlags,
		Commands: runnerHoldCommands(),
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			list, err := cl.Runners(ctx, terminal.PageOf(c))
			return terminal.ListedPage(c, list, err, []string{"RUNNER", "", "BUSY", "LABELS", "SEEN", "TOOLS"},
				func(s *terminal.Screen, r api.Runner) []string {
					there := s.In(terminal.Green, "✓ there")
					switch {
					case !r.Online:
						there = s.In(terminal.Faint, "− away")
					case r.Held != "":
						there = s.In(terminal.Yellow, "⏸ held: "+terminal.Short(r.Held, 40))
					}
					return []string{r.Name, there, fmt.Sprintf("%d of %d", r.Busy, r.Slots), strings.Join(r.Labels, " "),
						terminal.Ago(r.Seen),
						s.In(terminal.Faint, terminal.Short(toolList(r.Tools), 160))}
				}, "No runner has ever asked for work; start one by piston runner.", func(r api.Runner) string { return r.Name })
		}),
	}
}

// toolList writes tools with their versions, in order.
func toolList(tools map[string]string) string {
	list := make([]string, 0, len(tools))
	for name, version := range tools {
		list = append(list, strings.TrimSpace(name+" "+version))
	}
	sort.Strings(list)
	return strings.Join(list, ", ")
}

func runnerHoldCommands() []*cli.Command {
	return []*cli.Command{
		{
			Name: "show", Usage: "tell what a runner's machine is like, and what it did", ArgsUsage: "NAME",
			Description: "Load, memory and disk are as it said last: while all its slots are at work it says nothing.\n\n" +
				terminal.Example("piston runners show mac-mini"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
				terminal.LimitFlag(20, 200), terminal.JSONFlag},
			Action: terminal.Asking(showRunner, "NAME"),
		},
		{
			Name: "drain", Usage: "let a runner finish what it has, and hand it no more", ArgsUsage: "NAME",
			Description: "It stays as it is until piston runners resume. An administrator says so.\n\n" +
				terminal.Example("piston runners drain mac-mini --because 'new disk'"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "because", Usage: "why", Value: "drained by hand"}, terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				r, err := cl.HoldRunner(ctx, args[0], c.String("because"))
				return told(c, r, err, fmt.Sprintf("Runner %s is handed no more jobs; %s at hand.", args[0], plural(r.Busy, "job")))
			}, "NAME"),
		},
		{
			Name: "resume", Usage: "hand a drained runner jobs again", ArgsUsage: "NAME",
			Description: terminal.Example("piston runners resume mac-mini"), Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				r, err := cl.HoldRunner(ctx, args[0], "")
				return told(c, r, err, fmt.Sprintf("Runner %s is handed jobs again.", args[0]))
			}, "NAME"),
		},
		{
			Name: "forget", Usage: "take a runner that is away out of the lists", ArgsUsage: "NAME",
			Description: "When it comes back it is there again; piston token revoke keeps it out.\n\n" +
				terminal.Example("piston runners forget old-mini"), Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				err := cl.ForgetRunner(ctx, args[0])
				return told(c, map[string]string{"forgotten": args[0]}, err, fmt.Sprintf("Runner %s is forgotten.", args[0]))
			}, "NAME"),
		},
	}
}

func showRunner(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	f := api.DidFilter{Limit: c.Int("limit")}
	if text := c.String("before"); text != "" {
		var err error
		if f.Before, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return terminal.Usage("--before %q: give what a page before said under More", text)
		}
	}
	r, err := cl.Runner(ctx, args[0], f)
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, r, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s, %s, version %s", s.In(terminal.Strong, r.Name), r.Platform, strings.Join(r.Labels, " "), r.Version)
	there := fmt.Sprintf("%d of %d slots at work", r.Busy, r.Slots)
	if !r.Online {
		there = "away since " + terminal.Ago(r.Seen)
	}
	s.Line("  %s", there)
	if h := r.Host; h != nil {
		s.Line("  load %.1f on %d processors, memory %s free of %s, disk %s free of %s", h.Load, h.CPUs,
			quantity.Bytes(h.MemoryFree), quantity.Bytes(h.Memory), quantity.Bytes(h.DiskFree), quantity.Bytes(h.Disk))
	}
	s.Line("  %s", s.In(terminal.Faint, toolList(r.Tools)))
	stays, err := cl.Stays(ctx, api.StayFilter{Runner: r.Name, Limit: mostListed})
	if err != nil {
		return err
	}
	for _, one := range stays {
		s.Line("  the workspace of %s of run %d of %s stays %s", one.Job, one.Run, one.Project, stayWord(one))
	}
	s.Line("")
	var rows [][]string
	for _, d := range r.Did {
		rows = append(rows, []string{terminal.Ago(d.Claimed), d.Project, fmt.Sprint(d.Run), d.Job, s.State(d.State),
			terminal.Span(d.Took), terminal.Short(d.Reason, 60)})
	}
	if len(rows) > 0 {
		s.Table([]string{"GIVEN", "PROJECT", "RUN", "JOB", "STATE", "TOOK", "WHY"}, rows)
	}
	if len(rows) == f.Limit {
		last := r.Did[len(r.Did)-1].Claimed.Format(time.RFC3339Nano)
		s.Line("%s", s.In(terminal.Faint, "More: --before "+last))
	}
	return nil
}
