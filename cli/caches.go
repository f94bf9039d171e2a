package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

func cachesCommand() *cli.Command {
	return &cli.Command{
		Name:      "caches",
		Usage:     "tell what is kept of a project's caches, how often it was there, and what that has saved",
		ArgsUsage: "PROJECT",
		Description: "TAKES is what a copy takes beside what copies used later have in common with it: each piece is " +
			"stored once.\nWhat a hit has saved is measured: what jobs took in the mean that had nothing, less what they took " +
			"that had what fits.\n\n" +
			terminal.Example("piston caches tidewick", "piston caches tidewick --name stations --line main",
				"piston caches why tidewick 41"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "only of this cache"},
			&cli.StringFlag{Name: "line", Usage: "only of this branch or proposal"},
			&cli.StringFlag{Name: "after", Usage: "what a page before said under More"}, terminal.LimitFlag(20, 1000),
			terminal.JSONFlag},
		Commands: []*cli.Command{{
			Name:      "why",
			Usage:     "tell why a run's caches were hit or missed",
			ArgsUsage: "PROJECT RUN",
			Description: "Of a miss: which of the files that it follows differ from those of the nearest copy.\n\n" +
				terminal.Example("piston caches why tidewick 41", "piston caches why tidewick last --json"),
			Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
				n record.RunNumber, _ string) error {
				d, err := cl.Run(ctx, project, n)
				if err != nil || c.Bool("json") {
					return terminal.OrJSON(c, usesOf(d), err)
				}
				showUses(terminal.NewScreen(terminal.Out(c)), usesOf(d))
				return nil
			}, "PROJECT", "RUN"),
		}, {
			Name:        "drop",
			Usage:       "give up a saved copy",
			ArgsUsage:   "PROJECT ID",
			Description: "The next job that wants it makes it anew.\n\n" + terminal.Example("piston caches drop tidewick 7"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil || id < 1 {
					return terminal.Usage("%q is no id of a copy: piston caches %s lists them", args[1], args[0])
				}
				err = cl.DropCache(ctx, args[0], record.CacheID(id))
				return told(c, map[string]any{"dropped": id}, err, "The copy is given up; its pieces go when no other has them.")
			}, "PROJECT", "ID"),
		}},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Caches(ctx, args[0], client.CacheFilter{Name: c.String("name"), Line: c.String("line"),
				After: c.String("after"), Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, page, err)
			}
			showCaches(terminal.NewScreen(terminal.Out(c)), page)
			return nil
		}, "PROJECT"),
	}
}

func showCaches(s *terminal.Screen, page api.SavedCaches) {
	if page.Copies == 0 {
		s.Line("No cache of it is kept: a job that passes saves those that [job.NAME.cache.NAME] names.")
	} else {
		var rows [][]string
		for _, c := range page.Items {
			rows = append(rows, []string{fmt.Sprint(c.ID), c.Name, c.Job, c.Line, fmt.Sprint(c.Run), quantity.Bytes(c.Size),
				fmt.Sprint(c.Files), quantity.Bytes(c.Takes), fmt.Sprint(c.Uses), terminal.Ago(c.LastUsed), whoRestores(c)})
		}
		s.Table([]string{"ID", "CACHE", "JOB", "OF", "RUN", "SIZE", "FILES", "TAKES", "USES", "LAST", ""}, rows)
		if page.Next != "" {
			s.Line("%s", s.In(terminal.Faint, "More: --after "+page.Next))
		}
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("%s of %s take %s: each piece is stored once.",
			copies(page.Copies), quantity.Bytes(page.Size), quantity.Bytes(page.Takes))))
	}
	if len(page.Names) == 0 && page.ReusedSteps == 0 {
		return
	}
	s.Line("")
	var rows [][]string
	saved := int64(0)
	for _, r := range page.Names {
		saved += r.SavedMs
		rows = append(rows, []string{r.Pipeline, r.Job, r.Name, fmt.Sprint(r.Hits), fmt.Sprint(r.Nearest),
			fmt.Sprint(r.Misses), rate(r), tookOr(r.HitMs), tookOr(r.MissMs), savedBy(r)})
	}
	s.Table([]string{"PIPELINE", "JOB", "CACHE", "HITS", "NEAREST", "MISSES", "RATE", "JOB WITH", "WITHOUT",
		"SAVED"}, rows)
	s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("In the last 30 days caches have saved %s of work, and %s that were "+
		"reused %s.",
		quantity.Span(time.Duration(saved)*time.Millisecond), plural(int(page.ReusedSteps), "step"),
		quantity.Span(time.Duration(page.ReusedMs)*time.Millisecond))))
}

func whoRestores(c api.SavedCache) string {
	switch {
	case c.Outside:
		return "only by that proposal"
	case c.Apart:
		return "with its protected secrets"
	case c.Gated:
		return "not from outside"
	}
	return ""
}

func rate(r api.CacheRecord) string {
	all := r.Hits + r.Nearest + r.Misses
	return fmt.Sprintf("%d %%", r.Hits*100/max(all, 1))
}

func tookOr(ms *int64) string {
	if ms == nil {
		return "–"
	}
	return quantity.Span(time.Duration(*ms) * time.Millisecond)
}

func savedBy(r api.CacheRecord) string {
	if r.HitMs == nil || r.MissMs == nil {
		return "–"
	}
	return quantity.Span(time.Duration(r.SavedMs) * time.Millisecond)
}

// jobUse is what came of a cache in a job.
type jobUse struct {
	Job string `json:"job"`
	api.CacheUse
}

func usesOf(d api.RunDetail) []jobUse {
	list := []jobUse{}
	for _, j := range d.Jobs {
		for _, u := range j.Caches {
			list = append(list, jobUse{j.Name, u})
		}
	}
	return list
}

func showUses(s *terminal.Screen, list []jobUse) {
	if len(list) == 0 {
		s.Line("No job of it has a cache, or has come so far.")
	}
	for _, u := range list {
		s.Line("%s, cache %s: %s", u.Job, u.Name, terminal.CacheWord(u.CacheUse))
		for _, name := range u.Differs {
			s.Line("  %s", s.In(terminal.Faint, name+" differs"))
		}
		if u.Note != "" {
			s.Line("  %s", s.In(terminal.Faint, strings.TrimSpace(u.Note)))
		}
	}
}

func copies(n int64) string {
	if n == 1 {
		return "1 copy"
	}
	return fmt.Sprintf("%d copies", n)
}
