package cli

import (
	"context"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
)

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name:  "token",
		Usage: "make, list and revoke API tokens",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "make a token; it is shown this once", ArgsUsage: "NAME",
				Description: example("piston token add --runner mac-mini > runner.token"),
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "runner", Usage: "for a runner"}, jsonFlag},
				Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					kind := api.PersonToken
					if c.Bool("runner") {
						kind = api.RunnerToken
					}
					t, err := cl.IssueToken(ctx, api.NewToken{Name: args[0], Kind: kind})
					if err != nil || c.Bool("json") {
						return orJSON(c, t, err)
					}
					fmt.Fprintln(out(c), t.Secret)
					return nil
				}, "NAME"),
			},
			{
				Name: "list", Usage: "list tokens", Description: example("piston token list"), Flags: []cli.Flag{jsonFlag},
				Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Tokens(ctx)
					if err != nil || c.Bool("json") {
						return orJSON(c, list, err)
					}
					s := newScreen(out(c))
					var rows [][]string
					for _, t := range list {
						used := "never"
						if t.LastUsed != nil {
							used = ago(*t.LastUsed)
						}
						rows = append(rows, []string{fmt.Sprint(t.ID), short(t.Name, 50), string(t.Kind), ago(t.Created), used})
					}
					s.table([]string{"ID", "TOKEN", "KIND", "MADE", "USED"}, rows)
					return nil
				}),
			},
			{
				Name: "revoke", Usage: "make a token useless", ArgsUsage: "ID", Description: example("piston token revoke 3"), Flags: []cli.Flag{jsonFlag},
				Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := strconv.ParseInt(args[0], 10, 64)
					if err != nil {
						return usage("%q is no id of a token; piston token list shows them", args[0])
					}
					if err := cl.RevokeToken(ctx, id); err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(out(c), map[string]int64{"revoked": id})
					}
					fmt.Fprintf(out(c), "Token %d is revoked.\n", id)
					return nil
				}, "ID"),
			},
		},
	}
}

func runnersCommand() *cli.Command {
	return &cli.Command{
		Name: "runners", Usage: "list the machines that execute jobs", Description: example("piston runners"), Flags: []cli.Flag{jsonFlag},
		Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			list, err := cl.Runners(ctx)
			if err != nil || c.Bool("json") {
				return orJSON(c, list, err)
			}
			s := newScreen(out(c))
			var rows [][]string
			for _, r := range list {
				there := s.in(green, "✓ there")
				if !r.Online {
					there = s.in(faint, "− away")
				}
				rows = append(rows, []string{r.Name, there, fmt.Sprintf("%d of %d", r.Busy, r.Slots), strings.Join(r.Labels, " "), ago(r.Seen), s.in(faint, short(toolList(r.Tools), 160))})
			}
			s.table([]string{"RUNNER", "", "BUSY", "LABELS", "SEEN", "TOOLS"}, rows)
			return nil
		}),
	}
}

// toolList writes tools with their versions, in order.
func toolList(tools map[string]string) string {
	list := make([]string, 0, len(tools))
	for name, version := range tools {
		list = append(list, name+" "+version)
	}
	sort.Strings(list)
	return strings.Join(list, ", ")
}
