package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

func releaseList() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list releases, newest first",
		ArgsUsage: "PROJECT",
		Description: terminal.Example("piston release list tidewick",
			"piston release list tidewick --state standing --contains 1.5"),
		Flags: []cli.Flag{appFlag,
			&cli.StringFlag{Name: "state", Usage: "only these: standing or withdrawn"},
			&cli.StringFlag{Name: "contains", Usage: "only versions with this in their name"},
			&cli.Int64Flag{Name: "before", Usage: "only those made before this one"},
			terminal.LimitFlag(20, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Releases(ctx, args[0], api.ReleaseFilter{App: c.String("app"), State: c.String("state"),
				Contains: c.String("contains"), Before: record.ReleaseID(c.Int64("before")), Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Releases, page.Next, err,
				[]string{"APP", "VERSION", "BUILD", "RUN", "OF", "MADE", ""},
				func(s *terminal.Screen, r api.Release) []string {
					of := fmt.Sprintf("%s, %s", plural(r.Packages, "package"), quantity.Bytes(r.Size))
					return []string{r.App, r.Name, buildsOf(r), fmt.Sprint(r.Run), of, terminal.Ago(r.Made), standing(s, r)}
				}, "No release of that kind.", "piston release list "+args[0])
		}, "PROJECT"),
	}
}

// buildsOf are the build numbers of a release; one when they are all the same.
func buildsOf(r api.Release) string {
	var list []string
	for _, platform := range slices.Sorted(maps.Keys(r.Builds)) {
		list = append(list, fmt.Sprintf("%s %d", platform, r.Builds[platform]))
	}
	return strings.Join(list, ", ")
}

func standing(s *terminal.Screen, r api.Release) string {
	if r.Withdrawn != nil {
		return s.In(terminal.Red, "withdrawn") + ": " + terminal.Short(r.Reason, 60)
	}
	list := make([]string, len(r.Went))
	for i, w := range r.Went {
		list[i] = w.Outlet + " " + string(w.State)
		if w.State == publication.Shared || w.State == publication.Halted {
			list[i] += fmt.Sprintf(" %d %%", w.OutTo)
		}
	}
	return strings.Join(list, ", ")
}

func releaseShow() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "show a release: its packages, what people said, and what became of it",
		ArgsUsage:   "PROJECT VERSION",
		Description: terminal.Example("piston release show tidewick 1.5.0"),
		Flags:       []cli.Flag{appFlag, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			at, err := releaseMeant(ctx, c, cl, args[0], args[1])
			if err != nil {
				return err
			}
			r, err := cl.Release(ctx, args[0], at)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, r, err)
			}
			showRelease(terminal.NewScreen(terminal.Out(c)), r)
			return nil
		}, "PROJECT", "VERSION"),
	}
}

// releaseMeant finds the release of a version, whose app need not be said when only one has it.
func releaseMeant(ctx context.Context, c *cli.Command, cl *client.Client, project, name string) (api.ReleasePath,
	error) {
	at := api.ReleasePath{App: c.String("app"), Name: name}
	if at.App != "" {
		return at, nil
	}
	page, err := cl.Releases(ctx, project, api.ReleaseFilter{Contains: name, Limit: 200})
	for _, r := range page.Releases {
		switch {
		case r.Name != name:
		case at.App == "":
			at.App = r.App
		case at.App != r.App:
			return at, terminal.Usage("%s is a release of %s and of %s: say which by --app", name, at.App, r.App)
		}
	}
	if err == nil && at.App == "" {
		err = terminal.Ending(terminal.ExitFailed, fmt.Errorf("there is no release %s; piston release list %s lists them",
			name, project))
	}
	return at, err
}

func showRelease(s *terminal.Screen, r api.ReleaseDetail) {
	s.Line("%s  %s", s.In(terminal.Strong, r.App+" "+r.Name), buildsOf(r.Release))
	s.Line("   run %d of %s, commit %.9s", r.Run, r.Pipeline, r.Commit)
	if text := standing(s, r.Release); text != "" {
		s.Line("   %s", text)
	}
	s.Line("")
	var rows [][]string
	for _, p := range r.Contents {
		meets := "meets the checklist"
		switch {
		case p.Asked > 0:
			meets = plural(p.Asked, "finding") + " for people to judge"
		case p.Findings > 0:
			meets = plural(p.Findings, "finding") + ", accepted"
		}
		rows = append(rows, []string{p.Platform, terminal.Short(p.File, 50), quantity.Bytes(p.Size), p.Build, meets})
	}
	s.Table([]string{"FOR", "PACKAGE", "SIZE", "BUILD", "CHECKLIST"}, rows)
	s.Line("")
	for _, m := range r.Story {
		s.Line("%s  %-10s %s", s.In(terminal.Faint, m.At.Local().Format("2006-01-02 15:04")), m.Kind,
			terminal.Short(momentText(m), 120))
	}
	for _, n := range r.Notes {
		s.Line("")
		s.Line("%s  %s", s.In(terminal.Strong, n.Language), s.In(terminal.Faint, originOf(n)))
		s.Line("%s", strings.TrimRight(n.Text, "\n"))
	}
}

// momentText tells what happened, to which outlet, and by whom.
func momentText(m api.Moment) string {
	var parts []string
	for _, part := range []string{m.To, m.By, m.Text} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return strings.Join(parts, ": ")
}

func releaseMake() *cli.Command {
	return &cli.Command{
		Name:      "make",
		Usage:     "make a release of what a run has kept that passed",
		ArgsUsage: "PROJECT RUN",
		Description: "A pipeline does that by a step release. It needs packages that were held against the checklist and " +
			"meet it.\n\n" + terminal.Example("piston release make tidewick 12"),
		Flags: []cli.Flag{appFlag, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			n, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil || n < 1 {
				return terminal.Usage("%q is no run's number", args[1])
			}
			r, err := cl.MakeRelease(ctx, args[0], api.NewRelease{Run: record.RunNumber(n), App: c.String("app")})
			return told(c, r, err, fmt.Sprintf("%s %s is released: piston release show %s %s", r.App, r.Name, args[0], r.Name))
		}, "PROJECT", "RUN"),
	}
}

func releaseWithdraw() *cli.Command {
	return &cli.Command{
		Name:      "withdraw",
		Usage:     "take a release back: it goes nowhere any more",
		ArgsUsage: "PROJECT VERSION",
		Description: "Who has it already, has it. Another release of that version may be made afterwards.\n\n" +
			terminal.Example("piston release withdraw tidewick 1.5.0 --because 'the chart of Skagen is empty'"),
		Flags: []cli.Flag{appFlag, &cli.StringFlag{Name: "because", Usage: "why", Required: true}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			at, err := releaseMeant(ctx, c, cl, args[0], args[1])
			if err != nil {
				return err
			}
			err = cl.Withdraw(ctx, args[0], at, api.Withdrawal{Reason: c.String("because")})
			return told(c, map[string]any{"app": at.App, "name": at.Name, "withdrawn": err == nil}, err,
				fmt.Sprintf("%s %s is withdrawn.", at.App, at.Name))
		}, "PROJECT", "VERSION"),
	}
}
