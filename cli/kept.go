package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/quantity"
)

func keptCommand() *cli.Command {
	return &cli.Command{
		Name:      "kept",
		Usage:     "tell what runs have left behind, by which rules it goes, and what goes next",
		ArgsUsage: "[PROJECT]",
		Description: "Without PROJECT, of all: for administrators. What a run of a tag has kept, or one that has landed a " +
			"version, is a\n" +
			"release's, and never goes.\n\n" +
			terminal.Example("piston kept tidewick", "piston kept list tidewick --largest",
				"piston kept rules tidewick --artifacts 30 --logs forever"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Commands: []*cli.Command{{
			Name:      "list",
			Usage:     "list what is kept, one by one, and whether it goes next",
			ArgsUsage: "[PROJECT]",
			Description: "Without PROJECT, of all.\n\n" +
				terminal.Example("piston kept list tidewick --goes yes", "piston kept list tidewick --kind artifact --largest"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "kind", Usage: "only of this kind: artifact, cache, handover or log"},
				&cli.StringFlag{Name: "goes", Usage: "only what goes with the next sweep (yes), or what does not (no)"},
				&cli.BoolFlag{Name: "largest", Usage: "the largest first, else the oldest"},
				&cli.StringFlag{Name: "after", Usage: "what a page before said under More"}, terminal.LimitFlag(20,
					200), terminal.JSONFlag},
			Action: terminal.Asking(listKept, "[PROJECT]"),
		}, {
			Name:      "rules",
			Usage:     "say by which rules a project's things go",
			ArgsUsage: "[PROJECT]",
			Description: "Without PROJECT, those of all projects that say nothing else. Days are counted from a run's end, " +
				"of a cache from its last\n" +
				"use. What is not given stays as it is; 0 takes the rule for all.\n\n" +
				terminal.Example("piston kept rules tidewick --artifacts 30 --logs forever", "piston kept rules --cache-size 50GB"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "logs", Usage: "days, or forever"},
				&cli.StringFlag{Name: "artifacts", Usage: "days, or forever"},
				&cli.IntFlag{Name: "artifact-runs", Usage: "latest runs of each pipeline whose artifacts stay whatever their age",
					HideDefault: true},
				&cli.StringFlag{Name: "caches", Usage: "days without use, or forever"},
				&cli.StringFlag{Name: "cache-size", Usage: "most that a project's caches take together, such as 20GB"},
				&cli.StringFlag{Name: "handed", Usage: "days that what jobs hand on stays, or forever"}, terminal.JSONFlag},
			Action: terminal.Asking(setKept, "[PROJECT]"),
		}},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			k, err := cl.Kept(ctx, args[0])
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, k, err)
			}
			showKept(terminal.NewScreen(terminal.Out(c)), k)
			return nil
		}, "[PROJECT]"),
	}
}

func setKept(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	k, err := cl.Kept(ctx, args[0])
	if err != nil {
		return err
	}
	r := k.Own
	for name, to := range map[string]*int{"logs": &r.LogDays, "artifacts": &r.ArtifactDays, "caches": &r.CacheDays,
		"handed": &r.HandDays} {
		if c.IsSet(name) {
			if *to, err = daysOf(c.String(name)); err != nil {
				return terminal.Usage("--%s: %v", name, err)
			}
		}
	}
	if c.IsSet("artifact-runs") {
		r.ArtifactRuns = c.Int("artifact-runs")
	}
	if c.IsSet("cache-size") {
		if r.CacheBytes, err = quantity.ParseBytes(c.String("cache-size")); err != nil {
			return terminal.Usage("--cache-size: %v", err)
		}
	}
	if err := r.Check(); err != nil {
		return terminal.Usage("%v", err)
	}
	err = cl.SetKept(ctx, args[0], r)
	return told(c, r, err, "So it is kept from now on; the next sweep is within ten minutes.")
}

func daysOf(text string) (int, error) {
	if text == "forever" {
		return keep.Forever, nil
	}
	n, err := strconv.Atoi(strings.TrimSuffix(text, "d"))
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is neither a number of days nor forever", text)
	}
	return n, nil
}

func forDays(n int) string {
	if n == keep.Forever {
		return "for ever"
	}
	return plural(n, "day")
}

func showKept(s *terminal.Screen, k api.Kept) {
	rules := map[string]string{
		"log": forDays(k.Rules.LogDays), "handover": forDays(k.Rules.HandDays),
		"artifact": fmt.Sprintf("%s, of the latest %s of each pipeline longer, of releases for ever",
			forDays(k.Rules.ArtifactDays), plural(k.Rules.ArtifactRuns, "run")),
		"cache": fmt.Sprintf("%s without use, at most %s of a project", forDays(k.Rules.CacheDays),
			quantity.Bytes(k.Rules.CacheBytes)),
	}
	var rows [][]string
	for _, sum := range k.Sums {
		goes := ""
		if sum.GoingCount > 0 {
			goes = fmt.Sprintf("%d, %s", sum.GoingCount, quantity.Bytes(sum.GoingBytes))
		}
		rows = append(rows, []string{sum.Kind, fmt.Sprint(sum.Count), quantity.Bytes(sum.Bytes), goes, rules[sum.Kind]})
	}
	s.Table([]string{"KIND", "COUNT", "SIZE", "GOES NEXT", "KEPT"}, rows)
	if k.Frees > 0 {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("The next sweep frees %s.", quantity.Bytes(k.Frees))))
	}
	s.Line("%s", s.In(terminal.Faint,
		fmt.Sprintf("The disk has %s left; %s are kept in reserve.", quantity.Bytes(k.DiskFree), quantity.Bytes(k.Reserve))))
}

func listKept(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	page, err := cl.KeptItems(ctx, args[0],
		client.KeptFilter{Kind: c.String("kind"), Goes: c.String("goes"), Largest: c.Bool("largest"),
			After: c.String("after"), Limit: c.Int("limit")})
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, page, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	if len(page.Items) == 0 {
		s.Line("Nothing of that kind.")
		return nil
	}
	heads, rows := []string{"KIND", "RUN", "WHAT", "SIZE", "SINCE", ""}, [][]string{}
	if args[0] == "" {
		heads = append([]string{"PROJECT"}, heads...)
	}
	for _, item := range page.Items {
		run, goes := "", ""
		if item.Run > 0 {
			run = fmt.Sprint(item.Run)
		}
		if item.Goes {
			goes = "goes next"
		}
		row := []string{item.Kind, run, terminal.Short(item.What, 60), quantity.Bytes(item.Size),
			terminal.Ago(item.Since), goes}
		if args[0] == "" {
			row = append([]string{item.Project}, row...)
		}
		rows = append(rows, row)
	}
	s.Table(heads, rows)
	if page.Next != "" {
		s.Line("%s", s.In(terminal.Faint, "More: --after "+page.Next))
	}
	return nil
}

func removeProjectCommand() *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "remove a project with its runs, logs, artifacts, caches and secrets",
		ArgsUsage: "NAME",
		Description: "Nothing of it can be brought back; its repository is not touched. An administrator does it.\n\n" +
			terminal.Example("piston project remove old-app --yes"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "it is meant"}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			if !c.Bool("yes") {
				return terminal.Usage(
					"this removes every run, log, artifact, cache and secret of %s for good; say --yes when that is meant",
					args[0])
			}
			return told(c, map[string]string{"removed": args[0]}, cl.RemoveProject(ctx, args[0]),
				fmt.Sprintf("Project %s is removed with everything of it.", args[0]))
		}, "NAME"),
	}
}
