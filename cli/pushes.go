package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
)

func pushesCommand() *cli.Command {
	return &cli.Command{
		Name:      "pushes",
		Usage:     "list what may start runs, such as pushes, and what came of each",
		ArgsUsage: "PROJECT",
		Description: "What ended the server while it was planned, or takes more than the service gives, is set aside " +
			"after three times;\n" +
			"piston pushes retry tries it again.\n\n" +
			example("piston pushes tidewick", "piston pushes tidewick --state set-aside"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "only in this state: waiting, planned or set-aside"},
			&cli.StringFlag{Name: "commit", Usage: "only pushes of this commit, by its whole id"},
			&cli.Int64Flag{Name: "before", Usage: "only what came before this one"},
			limitFlag(20, 200),
			jsonFlag,
		},
		Commands: []*cli.Command{{
			Name:        "retry",
			Usage:       "plan again what was set aside",
			ArgsUsage:   "PROJECT ID",
			Description: example("piston pushes retry tidewick 41"),
			Flags:       []cli.Flag{jsonFlag},
			Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil || id < 1 {
					return usage("%q is no id; piston pushes %s lists them", args[1], args[0])
				}
				err = cl.RetryPush(ctx, args[0], id)
				return told(c, map[string]any{"project": args[0], "push": id, "retried": err == nil}, err, "It is planned again.")
			}, "PROJECT", "ID"),
		}},
		Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Pushes(ctx, args[0],
				client.PushFilter{State: c.String("state"), Commit: c.String("commit"), Before: c.Int64("before"),
					Limit: c.Int("limit")})
			if err != nil || c.Bool("json") {
				return orJSON(c, page, err)
			}
			s := newScreen(out(c))
			if len(page.Pushes) == 0 {
				s.line("Nothing of that kind.")
				return nil
			}
			var rows [][]string
			for _, p := range page.Pushes {
				rows = append(rows, []string{fmt.Sprint(p.ID), s.pushState(p.State), p.Kind, short(whatOf(p), 40), ago(p.Received),
					s.cameOf(p)})
			}
			s.table([]string{"ID", "STATE", "KIND", "OF", "WHEN", "WHAT CAME OF IT"}, rows)
			if page.Next != 0 {
				s.line("%s", s.in(faint, fmt.Sprintf("More: piston pushes %s --before %d", args[0], page.Next)))
			}
			return nil
		}, "PROJECT"),
	}
}

func (s *screen) pushState(text string) string {
	if text == "set-aside" {
		return s.in(red, text)
	}
	return text
}

// whatOf is what an event is about, in a few words.
func whatOf(p api.Push) string {
	if p.About != "" {
		return p.About
	}
	var names []string
	for _, r := range p.Refs {
		name := strings.TrimPrefix(strings.TrimPrefix(r.Ref, "refs/heads/"), "refs/tags/")
		if strings.Trim(r.Commit, "0") == "" {
			name += " removed"
		} else {
			name += fmt.Sprintf(" %.7s", r.Commit)
		}
		names = append(names, name)
	}
	return strings.Join(names, ", ")
}

func (s *screen) cameOf(p api.Push) string {
	if len(p.Runs) == 0 || p.State != "planned" {
		if p.State == "planned" {
			return s.in(faint, "no run")
		}
		return short(p.Note, 80)
	}
	var runs []string
	for _, r := range p.Runs {
		runs = append(runs, fmt.Sprintf("%s run %d", r.Pipeline, r.Number))
	}
	return short(strings.Join(runs, ", "), 80)
}
