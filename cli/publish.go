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
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

func publishCommand() *cli.Command {
	return &cli.Command{
		Name:      "publish",
		Usage:     "bring a release to an outlet, or see first what that would change",
		ArgsUsage: "PROJECT VERSION OUTLET",
		Description: "The service does it, goes on after any crash where it was, and does it once. With --plan nothing is " +
			"sent: it shows what\n" +
			"stands there now, and all that is missing with how to mend it. An earlier release can be published again.\n\n" +
			"Exit codes: 0 it would be taken, or is on its way; 1 something is missing.\n\n" +
			terminal.Example("piston publish tidewick 1.5.0 harbour-depot --plan",
				"piston publish tidewick 1.5.0 harbour-depot",
				"piston publish tidewick 1.5.0 quayside --share 10 --raise '50% after 1d' --raise '100% after 2d'"),
		Flags: []cli.Flag{appFlag,
			&cli.BoolFlag{Name: "plan", Usage: "only show what it would change, and what is missing"},
			&cli.StringFlag{Name: "channel", Usage: "a line of the outlet; by default release"},
			&cli.IntFlag{Name: "share", Usage: "to how many of a hundred people; by default all"},
			&cli.StringSliceFlag{Name: "raise", Usage: "how the share is raised by itself, such as \"50% after 1d\"; may be " +
				"repeated"},
			&cli.StringFlag{Name: "note", Usage: "what testers should look at"},
			&cli.BoolFlag{Name: "hold", Usage: "keep it at the outlet until a share is set, also when it may go out"},
			terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			at, err := releaseMeant(ctx, c, cl, args[0], args[1])
			if err != nil {
				return err
			}
			in := api.NewPublication{Outlet: args[2], Channel: c.String("channel"), Share: c.Int("share"),
				Hold: c.Bool("hold"), Note: c.String("note"),
				Raise: c.StringSlice("raise")}
			plan, err := cl.PlanPublication(ctx, args[0], at, in)
			if err != nil {
				return err
			}
			if c.Bool("plan") || len(plan.Missing) > 0 {
				return showPlan(c, plan)
			}
			p, err := cl.Publish(ctx, args[0], at, in)
			return told(c, p, err, fmt.Sprintf("%s %s is on its way to %s: piston publication list %s", p.App, p.Name, p.Outlet,
				args[0]))
		}, "PROJECT", "VERSION", "OUTLET"),
	}
}

// showPlan shows what publishing would change; something that is missing fails.
func showPlan(c *cli.Command, plan api.PublicationPlan) error {
	if c.Bool("json") {
		if err := terminal.PrintJSON(terminal.Out(c), plan); err != nil {
			return err
		}
	} else {
		printPlan(terminal.NewScreen(terminal.Out(c)), plan)
	}
	if len(plan.Missing) > 0 {
		return terminal.Ending(terminal.ExitFailed, nil)
	}
	return nil
}

func printPlan(s *terminal.Screen, plan api.PublicationPlan) {
	head := fmt.Sprintf("%s %s to %s, channel %s", plan.App, plan.Name, plan.Outlet, plan.Channel)
	s.Line("%s", s.In(terminal.Strong, head))
	if len(plan.Now.Out) == 0 {
		s.Line("   now:   nothing stands there")
	}
	for _, v := range plan.Now.Out {
		s.Line("   now:   %s, to %d %%, since %s", v.Name, v.Share, v.Since.Local().Format("2 January 15:04"))
	}
	if plan.Now.Last != "" {
		s.Line("   last:  build number %s; a new one has to be above it", plan.Now.Last)
	}
	if plan.Now.Draft != "" {
		s.Line("   %s", s.In(terminal.Red, "in the way: "+plan.Now.Draft))
	}
	s.Line("   then:  %s, to %d %%; %s to send", plan.Name, plan.Share, quantity.Bytes(plan.Size))
	for _, m := range plan.Missing {
		s.Line("%s %s", s.In(terminal.Red, "missing:"), m.What)
		s.Line("         %s", m.Mend)
	}
}

func publicationCommand() *cli.Command {
	act := func(name, usage, done string, do func(ctx context.Context, cl *client.Client, project string,
		id record.PublicationID) error) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "PROJECT ID",
			Description: terminal.Example("piston publication " + name + " tidewick 3"), Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := publicationID(args)
				if err != nil {
					return err
				}
				err = do(ctx, cl, args[0], id)
				return told(c, map[string]any{"publication": id, name: err == nil}, err, done)
			}, "PROJECT", "ID")}
	}
	return &cli.Command{
		Name:  "publication",
		Usage: "releases on their way to outlets",
		Commands: []*cli.Command{publicationList(), publicationShare(),
			act("halt", "keep further people from getting it", "No further people will get it.",
				func(ctx context.Context, cl *client.Client, project string, id record.PublicationID) error {
					return cl.HaltPublication(ctx, project, id)
				}),
			act("withdraw", "take it back, wherever it is on its way", "It is being taken back.",
				func(ctx context.Context, cl *client.Client, project string, id record.PublicationID) error {
					return cl.WithdrawPublication(ctx, project, id)
				})},
	}
}

func publicationID(args []string) (record.PublicationID, error) {
	return idOf[record.PublicationID](args, "publication", "piston publication list")
}

// idOf reads the id that comes after the project.
func idOf[T ~int64](args []string, what, lists string) (T, error) {
	id, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil || id < 1 {
		return 0, terminal.Usage("%q is no %s; %s %s lists them", args[1], what, lists, args[0])
	}
	return T(id), nil
}

func publicationShare() *cli.Command {
	return &cli.Command{
		Name:        "share",
		Usage:       "give it to so many of a hundred people, and go on with what was halted",
		ArgsUsage:   "PROJECT ID PERCENT",
		Description: terminal.Example("piston publication share tidewick 3 50"),
		Flags:       []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			id, err := publicationID(args)
			if err != nil {
				return err
			}
			percent, err := strconv.Atoi(strings.TrimSuffix(args[2], "%"))
			if err != nil || percent < 1 || percent > 100 {
				return terminal.Usage("%q is no share: a number from 1 to 100", args[2])
			}
			err = cl.SharePublication(ctx, args[0], id, percent)
			return told(c, map[string]any{"publication": id, "percent": percent, "shared": err == nil}, err,
				fmt.Sprintf("It goes to %d %% of people.", percent))
		}, "PROJECT", "ID", "PERCENT"),
	}
}

func publicationList() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list publications, newest first",
		ArgsUsage: "PROJECT",
		Description: terminal.Example("piston publication list tidewick",
			"piston publication list tidewick --outlet harbour-depot --state out"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "outlet", Usage: "only those to this outlet"},
			&cli.StringFlag{Name: "state", Usage: "only in this state, such as in-review or out"},
			&cli.Int64Flag{Name: "before", Usage: "only those that began before this one"},
			terminal.LimitFlag(20, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Publications(ctx, args[0], api.PublicationFilter{Outlet: c.String("outlet"),
				State: c.String("state"), Before: record.PublicationID(c.Int64("before")), Limit: c.Int("limit")})
			return terminal.ListedBefore(c, page, page.Publications, page.Next, err,
				[]string{"ID", "RELEASE", "TO", "HOW IT STANDS", "BEGUN"},
				func(s *terminal.Screen, p api.Publication) []string {
					return []string{fmt.Sprint(p.ID), p.App + " " + p.Name, p.Outlet + ", " + p.Channel, publicationWord(s, p),
						terminal.Ago(p.Begun)}
				}, "No publication of that kind.", "piston publication list "+args[0])
		}, "PROJECT"),
	}
}

// publicationWord tells how a publication stands, in a few words.
func publicationWord(s *terminal.Screen, p api.Publication) string {
	text := string(p.State)
	switch {
	case p.State == publication.Refused:
		text = s.In(terminal.Red, text) + ": " + terminal.Short(strings.Join(p.Reasons, "; "), 100)
	case p.State == publication.Sending:
		text += fmt.Sprintf(", %s of %s", quantity.Bytes(p.Sent), quantity.Bytes(p.Total))
	case p.State.Given():
		text += fmt.Sprintf(", %d %%", p.OutTo)
	}
	if p.NextAt != nil {
		text += fmt.Sprintf("; to %d %% on %s", p.NextShare, p.NextAt.Local().Format("2 January 15:04"))
	}
	if len(p.Asks) > 0 {
		text += "; " + s.In(terminal.Yellow, "to answer: "+terminal.Short(strings.Join(p.Asks, "; "), 120))
	}
	if p.Trouble != "" {
		text += "; waits: " + terminal.Short(p.Trouble, 80)
	}
	if p.Wants != "" {
		text += "; to " + p.Wants
	}
	return text
}
