package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
)

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name:  "token",
		Usage: "make, list and revoke API tokens",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "make a token; it is shown this once", ArgsUsage: "NAME",
				Description: "A token may do what you may, unless --role and --project bound it.\n\n" +
					terminal.Example("piston token add --runner mac-mini > runner.token",
						"piston token add nightly-report --role reader --project tidewick --days 30"),
				Flags: []cli.Flag{&cli.BoolFlag{Name: "runner", Usage: "for a runner"},
					&cli.StringFlag{Name: "role", Usage: "the most it may do: reader, builder, keeper or administrator"},
					&cli.StringFlag{Name: "project", Usage: "the only project it is for"},
					&cli.IntFlag{Name: "days", Usage: "after how many days it expires; 0 never", Value: 365}, terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					n := api.NewToken{Name: args[0], Kind: api.PersonToken, Role: access.Role(c.String("role")),
						Project: c.String("project"), Days: c.Int("days")}
					if c.Bool("runner") {
						n.Kind = api.RunnerToken
					}
					t, err := cl.IssueToken(ctx, n)
					return told(c, t, err, t.Secret)
				}, "NAME"),
			},
			{
				Name: "list", Usage: "list your tokens, or as an administrator everybody's",
				Description: terminal.Example("piston token list"),
				Flags: []cli.Flag{&cli.Int64Flag{Name: "after", Usage: "only those after this id"},
					&cli.StringFlag{Name: "contains", Usage: "only those with this in their name or their person's"},
					terminal.LimitFlag(200, 500), terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Tokens(ctx, c.Int64("after"), c.String("contains"), c.Int("limit"))
					return terminal.ListedPage(c, list, err, []string{"ID", "TOKEN", "OF", "AT MOST", "MADE", "BY", "USED", "EXPIRES"},
						func(s *terminal.Screen, t api.Token) []string {
							used, of, most := "never", t.Person, string(t.Role)
							if t.LastUsed != nil {
								used = terminal.Ago(*t.LastUsed)
							}
							if t.Kind == api.RunnerToken {
								of = "a runner"
							}
							if t.Project != "" {
								most += " in " + t.Project
							}
							return []string{fmt.Sprint(t.ID), terminal.Short(t.Name, 50), of, most, terminal.Ago(t.Created), t.MadeBy, used,
								expiry(s, t.Expires)}
						}, "No tokens yet: piston token add NAME", func(t api.Token) string { return fmt.Sprint(t.ID) })
				}),
			},
			{
				Name: "revoke", Usage: "make a token useless", ArgsUsage: "ID",
				Description: terminal.Example("piston token revoke 3"),
				Flags:       []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := strconv.ParseInt(args[0], 10, 64)
					if err != nil {
						return terminal.Usage("%q is no id of a token; piston token list shows them", args[0])
					}
					return told(c, map[string]int64{"revoked": id}, cl.RevokeToken(ctx, id), fmt.Sprintf("Token %d is revoked.", id))
				}, "ID"),
			},
		},
	}
}
