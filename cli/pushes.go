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
)

func pushesCommand() *cli.Command {
	return &cli.Command{
		Name:      "pushes",
		Usage:     "list what may start runs, such as pushes, and what came of each",
		ArgsUsage: "PROJECT",
		Description: "What ended the server while it was planned, or takes more than the service gives, is set aside " +
			"after three times;\n" +
			"piston pushes retry tries it again.\n\n" +
			terminal.Example("piston pushes tidewick", "piston pushes tidewick --state set-aside"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "only in this state: waiting, planned or set-aside"},
			&cli.StringFlag{Name: "commit", Usage: "only pushes of this commit, by its whole id"},
			&cli.Int64Flag{Name: "before", Usage: "only what came before this one"},
			terminal.LimitFlag(20, 200),
			terminal.JSONFlag,
		},
		Commands: []*cli.Command{{
			Name:        "retry",
			Usage:       "plan again what was set aside",
			ArgsUsage:   "PROJECT ID",
			Description: terminal.Example("piston pushes retry tidewick 41"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil || id < 1 {
					return terminal.Usage("%q is no id; piston pushes %s lists them", args[1], args[0])
				}
				err = cl.RetryPush(ctx, args[0], id)
				return told(c, map[string]any{"project": args[0], "push": id, "retried": err == nil}, err, "It is planned again.")
			}, "PROJECT", "ID"),
		}},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Pushes(ctx, args[0],
				client.PushFilter{State: c.String("state"), Commit: c.String("commit"), Before: c.Int64("before"),
					Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Pushes, page.Next, err,
				[]string{"ID", "STATE", "KIND", "OF", "WHEN", "WHAT CAME OF IT"},
				func(s *terminal.Screen, p api.Push) []string {
					return []string{fmt.Sprint(p.ID), pushState(s, p.State), p.Kind, terminal.Short(whatOf(p), 40),
						terminal.Ago(p.Received), cameOf(s, p)}
				}, "Nothing of that kind.", "piston pushes "+args[0])
		}, "PROJECT"),
	}
}

func pushState(s *terminal.Screen, text string) string {
	if text == "set-aside" {
		return s.In(terminal.Red, text)
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

func cameOf(s *terminal.Screen, p api.Push) string {
	if len(p.Runs) == 0 || p.State != "planned" {
		if p.State == "planned" {
			return s.In(terminal.Faint, "no run")
		}
		return terminal.Short(p.Note, 80)
	}
	var runs []string
	for _, r := range p.Runs {
		runs = append(runs, fmt.Sprintf("%s run %d", r.Pipeline, r.Number))
	}
	return terminal.Short(strings.Join(runs, ", "), 80)
}
