package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func testerCommand() *cli.Command {
	return &cli.Command{
		Name:  "tester",
		Usage: "people who try releases, with a mail address and no account",
		Commands: []*cli.Command{testerAdd(), testerList(), {
			Name:      "drop",
			Usage:     "take somebody out of a group, or out of the project",
			ArgsUsage: "PROJECT ID",
			Description: "Out of the project their link leads nowhere any more; what they said stays with the releases.\n\n" +
				terminal.Example("piston tester drop tidewick 7 --group friends", "piston tester drop tidewick 7"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "group", Usage: "only out of this group"}, terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := testerID(args)
				if err != nil {
					return err
				}
				err = cl.DropTester(ctx, args[0], id, c.String("group"))
				return told(c, map[string]any{"tester": id, "dropped": err == nil}, err, "They get nothing more.")
			}, "PROJECT", "ID"),
		}, {
			Name:        "link",
			Usage:       "give somebody another link; the one before leads nowhere any more",
			ArgsUsage:   "PROJECT ID",
			Description: terminal.Example("piston tester link tidewick 7"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				id, err := testerID(args)
				if err != nil {
					return err
				}
				l, err := cl.NewTesterLink(ctx, args[0], id)
				return told(c, l, err, l.Link)
			}, "PROJECT", "ID"),
		}, {
			Name:      "devices",
			Usage:     "list the devices that a provisioning profile has to name",
			ArgsUsage: "PROJECT",
			Description: "Testers tell of them on their page. What the profile of the last release that they could have " +
				"does not list\nis marked.\n\n" + terminal.Example("piston tester devices tidewick"),
			Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				list, err := cl.TestDevices(ctx, args[0])
				return terminal.Listed(c, list, err, []string{"DEVICE", "CALLED", "OF", "TOLD", ""},
					func(s *terminal.Screen, d api.TestDevice) []string {
						says := ""
						if d.Listed != nil && !*d.Listed {
							says = s.In(terminal.Red, "not in the profile")
						}
						return []string{d.Device, d.Name, d.Address, terminal.Ago(d.Added), says}
					}, "No tester has told of a device.")
			}, "PROJECT"),
		}},
	}
}

func testerID(args []string) (record.TesterID, error) {
	return idOf[record.TesterID](args, "tester", "piston tester list")
}

func testerAdd() *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "put people into a group of testers",
		ArgsUsage: "PROJECT GROUP [ADDRESS...]",
		Description: "Each gets a mail when a release is published to the group, with a link to a page of their own. Who " +
			"is in the\n" +
			"group already stays as they are. All are added, or none.\n\n" +
			terminal.Example("piston tester add tidewick friends mira@harbour.example jon@harbour.example",
				"piston tester add tidewick friends --file addresses.txt"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "file", Usage: "a file with an address on each line; - for standard input"},
			terminal.JSONFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			args := c.Args().Slice()
			if len(args) < 2 {
				return terminal.Usage("piston tester add takes PROJECT GROUP, and addresses")
			}
			addresses := args[2:]
			if file := c.String("file"); file != "" {
				more, err := linesOf(file)
				if err != nil {
					return err
				}
				addresses = append(addresses, more...)
			}
			if len(addresses) == 0 {
				return terminal.Usage("say whose addresses, or name a --file with one on each line")
			}
			cl, err := terminal.Connect()
			if err != nil {
				return err
			}
			out, err := cl.AddTesters(ctx, args[0], api.NewTesters{Group: args[1], Addresses: addresses})
			return told(c, out, err, fmt.Sprintf("%s joined group %s, %d of them new.", plural(out.Joined, "tester"), args[1],
				out.Added))
		},
	}
}

// linesOf reads the lines of a file that say something, or those of standard input when it is called -.
func linesOf(file string) (list []string, err error) {
	from := os.Stdin
	if file != "-" {
		if from, err = os.Open(file); err != nil {
			return nil, err
		}
		defer from.Close()
	}
	lines := bufio.NewScanner(from)
	for lines.Scan() {
		if line := strings.TrimSpace(lines.Text()); line != "" {
			list = append(list, line)
		}
	}
	return list, lines.Err()
}

func testerList() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list who tries releases",
		ArgsUsage: "PROJECT",
		Description: terminal.Example("piston tester list tidewick", "piston tester list tidewick --group friends "+
			"--contains harbour.example"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "group", Usage: "only those of this group"},
			&cli.StringFlag{Name: "contains", Usage: "only whose address contains this"},
			&cli.Int64Flag{Name: "after", Usage: "only those after this one"},
			terminal.LimitFlag(50, 200), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			page, err := cl.Testers(ctx, args[0], api.TesterFilter{Group: c.String("group"), Contains: c.String("contains"),
				After: record.TesterID(c.Int64("after")), Limit: c.Int("limit")})
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(terminal.Out(c), page)
			}
			err = terminal.Listed(c, page.Testers, nil, []string{"ID", "ADDRESS", "GROUPS", "FETCHED", "LAST", ""},
				func(s *terminal.Screen, t api.Tester) []string {
					last, says := "", ""
					if t.Last != nil {
						last = terminal.Ago(*t.Last)
					}
					switch {
					case t.Quiet:
						says = "wants no mail"
					case t.Trouble != "":
						says = s.In(terminal.Red, "gets no mail: "+terminal.Short(t.Trouble, 60))
					}
					return []string{fmt.Sprint(t.ID), t.Address, strings.Join(t.Groups, ", "), fmt.Sprint(t.Downloads), last,
						says}
				}, "No testers of that kind: piston tester add adds some.")
			if err == nil && page.Next > 0 {
				terminal.NewScreen(terminal.Out(c)).Line("More: piston tester list %s --after %d", args[0], page.Next)
			}
			return err
		}, "PROJECT"),
	}
}

// releaseWords shows how a release fares with testers.
func releaseWords() *cli.Command {
	return &cli.Command{
		Name:        "words",
		Usage:       "show who has tried a release, and what they say",
		ArgsUsage:   "PROJECT VERSION",
		Description: terminal.Example("piston release words tidewick 1.5.0"),
		Flags:       []cli.Flag{appFlag, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			at, err := releaseMeant(ctx, c, cl, args[0], args[1])
			if err != nil {
				return err
			}
			tried, err := cl.Tried(ctx, args[0], at)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(terminal.Out(c), tried)
			}
			printTried(terminal.NewScreen(terminal.Out(c)), tried)
			return nil
		}, "PROJECT", "VERSION"),
	}
}

func printTried(s *terminal.Screen, tried api.Tried) {
	if len(tried.Groups) == 0 {
		s.Line("No group of testers may have it.")
	}
	for _, g := range tried.Groups {
		says := ""
		if g.Halted {
			says = ", " + s.In(terminal.Yellow, "halted")
		}
		s.Line("%s: %d of %d have fetched it, since %s, until %s%s", s.In(terminal.Strong, g.Group), g.Downloaded, g.Testers,
			terminal.Ago(g.Begun), g.Ends.Format("2 January"), says)
	}
	for _, w := range tried.Words {
		picture := ""
		if w.Picture {
			picture = " (with a picture: see the release's page)"
		}
		s.Line("")
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("tester %d, %s%s", w.Tester, terminal.Ago(w.At), picture)))
		for line := range strings.Lines(w.Text) {
			s.Line("  %s", strings.TrimRight(line, "\r\n"))
		}
	}
}
