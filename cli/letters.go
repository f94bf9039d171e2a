package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func lettersCommand() *cli.Command {
	return &cli.Command{
		Name:  "letters",
		Usage: "list what was sent by mail, or is to be, and what came back",
		Description: "For administrators. Mail is sent by the server that piston serve --mail-server names, tried for a " +
			"day, and shown\n" +
			"when that server refuses it.\n\n" +
			terminal.Example("piston letters", "piston letters --state refused"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "only these: queued, sent or refused"},
			&cli.StringFlag{Name: "contains", Usage: "only to addresses with this in them"},
			&cli.Int64Flag{Name: "before", Usage: "only those written before this one"},
			terminal.LimitFlag(20, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			page, err := cl.Letters(ctx, api.LetterFilter{State: c.String("state"), Contains: c.String("contains"),
				Before: record.LetterID(c.Int64("before")), Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Letters, page.Next, err,
				[]string{"ID", "STATE", "TO", "SUBJECT", "WRITTEN", ""}, func(s *terminal.Screen, l api.Letter) []string {
					state := l.State
					if l.State == "refused" {
						state = s.In(terminal.Red, state)
					}
					return []string{fmt.Sprint(l.ID), state, terminal.Short(l.To, 40), terminal.Short(l.Subject, 60),
						terminal.Ago(l.Queued), terminal.Short(l.Trouble, 80)}
				}, "No letter of that kind.", "piston letters")
		}),
	}
}

func mailCommand() *cli.Command {
	return &cli.Command{
		Name:      "mail",
		Usage:     "say where you get mail, or, for an administrator, where somebody does",
		ArgsUsage: "ADDRESS",
		Description: "Who may answer where a run waits is told by mail. An empty address ends it.\n\n" +
			terminal.Example("piston mail ada@tidewick.example", "piston mail --person ben ben@tidewick.example",
				"piston mail ''"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "person", Usage: "whose, instead of your own"}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			err := cl.SetMail(ctx, c.String("person"), args[0])
			said := "Mail goes to " + args[0] + "."
			if args[0] == "" {
				said = "No mail is sent any more."
			}
			return told(c, map[string]any{"mail": args[0], "set": err == nil}, err, said)
		}, "ADDRESS"),
	}
}
