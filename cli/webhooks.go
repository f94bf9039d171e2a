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
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
)

func webhookCommand() *cli.Command {
	return &cli.Command{
		Name:  "webhook",
		Usage: "tell other programs of what happens in a project",
		Commands: []*cli.Command{webhookListCommand(), webhookSetCommand(), webhookDropCommand(), webhookTryCommand(),
			webhookMessagesCommand(), webhookAgainCommand()},
	}
}

func webhookListCommand() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "list whom programs are told by", ArgsUsage: "PROJECT",
		Description: terminal.Example("piston webhook list tidewick"),
		Flags:       []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.Webhooks(ctx, args[0])
			return terminal.Listed(c, list, err, []string{"NAME", "ADDRESS", "TOLD OF", "SET BY", "PAUSED"},
				func(s *terminal.Screen, w api.Webhook) []string {
					return []string{w.Name, terminal.Short(w.URL, 60), kindsWord(w.Kinds), w.By, s.In(terminal.Red, w.Paused)}
				}, "No program is told of anything.")
		}, "PROJECT"),
	}
}

func kindsWord(kinds []news.Kind) string {
	list := make([]string, len(kinds))
	for i, k := range kinds {
		list[i] = string(k)
	}
	return strings.Join(list, ", ")
}

func webhookSetCommand() *cli.Command {
	var kinds []string
	for _, a := range news.All {
		kinds = append(kinds, string(a.Kind))
	}
	return &cli.Command{
		Name: "set", Usage: "have a program told, or told otherwise", ArgsUsage: "PROJECT NAME ADDRESS",
		Description: "Messages are CloudEvents 1.0 in JSON, signed as Standard Webhooks. By what they are signed is " +
			"shown once, here.\nThey are tried for a day; an answer of 2xx is a thank-you, 410 ends it.\n\n" +
			terminal.Example("piston webhook set tidewick chat https://chat.example/in/481",
				"piston webhook set tidewick all https://hooks.example/x --of run.ended"),
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "of", Usage: "told of this; several times. One of " +
			strings.Join(kinds, ", ")}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			in := api.NewWebhook{URL: args[2]}
			for _, k := range c.StringSlice("of") {
				in.Kinds = append(in.Kinds, news.Kind(k))
			}
			w, err := cl.SetWebhook(ctx, args[0], args[1], in)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, w, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("%s is told of %s.", w.Name, kindsWord(w.Kinds))
			s.Line("Its messages are signed with %s; this is shown once.", s.In(terminal.Strong, w.Secret))
			return nil
		}, "PROJECT", "NAME", "ADDRESS"),
	}
}

// webhookDid is a command that does something about a webhook, and says so.
func webhookDid(name, usage, example, done string, do func(ctx context.Context, cl *client.Client, project,
	webhook string) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "PROJECT NAME", Description: terminal.Example(example),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			err := do(ctx, cl, args[0], args[1])
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, map[string]string{"webhook": args[1]}, err)
			}
			terminal.NewScreen(terminal.Out(c)).Line(done, args[1])
			return nil
		}, "PROJECT", "NAME"),
	}
}

func webhookDropCommand() *cli.Command {
	return webhookDid("drop", "tell it no more", "piston webhook drop tidewick chat", "%s is told nothing more.",
		func(ctx context.Context, cl *client.Client, project, name string) error {
			return cl.DropWebhook(ctx, project, name)
		})
}

func webhookTryCommand() *cli.Command {
	return webhookDid("try", "send something, to see whether it arrives", "piston webhook try tidewick chat",
		"A message to %s is on its way: piston webhook messages tells what it answers.",
		func(ctx context.Context, cl *client.Client, project, name string) error {
			return cl.TryWebhook(ctx, project, name)
		})
}

func webhookMessagesCommand() *cli.Command {
	return &cli.Command{
		Name: "messages", Usage: "list what was sent, with what was answered", ArgsUsage: "PROJECT NAME",
		Description: terminal.Example("piston webhook messages tidewick chat --state refused"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "state", Usage: "queued, sent or refused"},
			&cli.Int64Flag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
			terminal.LimitFlag(30, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Messages(ctx, args[0], args[1], api.MessageFilter{State: c.String("state"),
				Before: record.MessageID(c.Int64("before")), Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Messages, page.Next, err,
				[]string{"ID", "WHAT", "STATE", "TRIES", "STATUS", "QUEUED", "ANSWER"},
				func(_ *terminal.Screen, m api.Message) []string {
					return []string{fmt.Sprint(m.ID), m.Kind, m.State, fmt.Sprint(m.Tries), fmt.Sprint(m.Status),
						terminal.Ago(m.Queued), terminal.Short(m.Answer, 80)}
				}, "Nothing was sent yet.", "piston webhook messages "+args[0]+" "+args[1])
		}, "PROJECT", "NAME"),
	}
}

func webhookAgainCommand() *cli.Command {
	return &cli.Command{
		Name: "again", Usage: "send a message again", ArgsUsage: "PROJECT NAME ID",
		Description: "It keeps its id, by which who has it already knows it.\n\n" +
			terminal.Example("piston webhook again tidewick chat 41"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			n, err := strconv.ParseInt(args[2], 10, 64)
			if err != nil || n < 1 {
				return terminal.Usage("%q is no message: piston webhook messages lists them", args[2])
			}
			err = cl.ResendMessage(ctx, args[0], args[1], record.MessageID(n))
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, map[string]int64{"message": n}, err)
			}
			terminal.NewScreen(terminal.Out(c)).Line("Message %d is on its way again.", n)
			return nil
		}, "PROJECT", "NAME", "ID"),
	}
}

func tellCommand() *cli.Command {
	return &cli.Command{
		Name:  "tell-me",
		Usage: "tell what you are told of by mail, or choose",
		Description: "Of a project with --project, else of all that no other choice names. --of nothing tells nothing.\n\n" +
			terminal.Example("piston tell-me", "piston tell-me --of mine --of release.made --project tidewick",
				"piston tell-me --unasked"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "project", Usage: "only of this one"},
			&cli.StringSliceFlag{Name: "of", Usage: "told of this; several times"},
			&cli.BoolFlag{Name: "unasked", Usage: "take the choice back"}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			if c.IsSet("of") {
				in := api.Wish{Project: c.String("project"), Kinds: []string{}}
				for _, k := range c.StringSlice("of") {
					if k != "nothing" {
						in.Kinds = append(in.Kinds, k)
					}
				}
				if _, err := cl.SetWish(ctx, in); err != nil {
					return err
				}
			} else if c.Bool("unasked") {
				if err := cl.DropWish(ctx, c.String("project")); err != nil {
					return err
				}
			}
			w, err := cl.Wishes(ctx)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, w, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			for _, one := range w.Wishes {
				of, kinds := one.Project, strings.Join(one.Kinds, ", ")
				if of == "" {
					of = "all projects"
				}
				if kinds == "" {
					kinds = "nothing"
				}
				if one.Unasked {
					kinds += s.In(terminal.Faint, " (nobody has chosen)")
				}
				s.Line("%-20s %s", of, kinds)
			}
			s.Line("")
			for _, ch := range w.Choices {
				s.Line("  %-20s %s", ch.Kind, s.In(terminal.Faint, ch.Means))
			}
			return nil
		}),
	}
}

func feedCommand() *cli.Command {
	return &cli.Command{
		Name: "feed", Usage: "tell where a project's badge (SVG) and feed (Atom) are", ArgsUsage: "PROJECT",
		Description: "Whoever has the address may read them. The badge takes ?pipeline= and ?branch=.\n\n" +
			terminal.Example("piston feed tidewick", "piston feed tidewick --anew"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "anew", Usage: "at another address from now on; the one before leads nowhere"},
			terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			f, err := cl.Feed(ctx, args[0], c.Bool("anew"))
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, f, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			s.Line("badge  %s", f.Badge)
			s.Line("feed   %s", f.Atom)
			return nil
		}, "PROJECT"),
	}
}
