package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
)

func outletCommand() *cli.Command {
	return &cli.Command{
		Name:  "outlet",
		Usage: "places where releases go",
		Commands: []*cli.Command{outletCheck(), {
			Name:        "list",
			Usage:       "list a project's outlets",
			ArgsUsage:   "PROJECT",
			Description: terminal.Example("piston outlet list tidewick"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				list, err := cl.Outlets(ctx, args[0])
				return terminal.Listed(c, list, err, []string{"OUTLET", "KIND", "WHERE", "TAKES", "SET BY", ""},
					func(s *terminal.Screen, o api.Outlet) []string {
						return []string{o.Name, o.Kind, cmp.Or(o.URL, o.Folder), cmp.Or(strings.Join(o.Takes, ", "), "all"),
							o.SetBy, s.In(terminal.Red, strings.Join(o.Warnings, "; "))}
					}, "No outlets yet: piston outlet set makes one.")
			}, "PROJECT"),
		}, {
			Name:      "set",
			Usage:     "make an outlet, or change it",
			ArgsUsage: "PROJECT NAME",
			Description: "A folder is one of the server's machine, below that of the project's outlets (piston serve " +
				"--outlets). Each version is there whole\n" +
				"or not at all, and is never written over; current.json says which one people get.\n\n" +
				"With --testers its channels are groups of people who get a mail and a page of their own.\n\n" +
				"With --url it is a store, or an adapter of one, that speaks the outlet protocol (docs/outlet-protocol.md). The " +
				"secret of the client is read\n" +
				"from --secret-file, or from standard input; a private key in PEM signs for it instead. It stays in the service, " +
				"encrypted; left out, what\n" +
				"is set already stays. What else is said of an outlet takes the place of what was said before.\n\n" +
				"With --bucket it is laid out as in a folder.\n\n" +
				terminal.Example("piston outlet set tidewick harbour-depot --pipeline release --branch main",
					"piston outlet set tidewick quayside --url http://127.0.0.1:7481 --client piston \\",
					"    --secret-file quayside.secret --takes app-bundle --expires 2027-06-30",
					"piston outlet set tidewick testers --testers --days 30"),
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "folder", Usage: "the folder; by default it has the outlet's name"},
				&cli.BoolFlag{Name: "testers", Usage: "groups of testers, each of which is a channel (piston tester)"},
				&cli.IntFlag{Name: "days", Usage: "for how many days testers may have a release; by default 90"},
				&cli.StringFlag{Name: "url", Usage: "where a store speaks the outlet protocol"},
				&cli.StringFlag{Name: "bucket", Usage: "an S3-compatible bucket: https://HOST/BUCKET, or with a prefix below it"},
				&cli.StringFlag{Name: "region", Usage: "the bucket's region, where it has one"},
				&cli.StringFlag{Name: "client", Usage: "the id by which it knows the service; of a bucket that of the access key"},
				&cli.StringFlag{Name: "secret-file", Usage: "a file with its secret, or private key; - for standard input"},
				&cli.StringFlag{Name: "expires", Usage: "the day when the secret is good no more, such as 2027-06-30"},
				&cli.StringSliceFlag{Name: "takes", Usage: "a kind of package that goes there: apk, app-bundle or ipa; none: all"},
				&cli.StringSliceFlag{Name: "pipeline", Usage: "a pipeline that may publish there by itself; none: any"},
				&cli.StringSliceFlag{Name: "branch", Usage: "a branch whose runs may"},
				&cli.StringSliceFlag{Name: "tag", Usage: "a tag whose runs may"},
				terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				in, err := newOutlet(c)
				if err != nil {
					return err
				}
				o, err := cl.SetOutlet(ctx, args[0], args[1], in)
				return told(c, o, err, fmt.Sprintf("Releases can go to %s, %s.", o.Name, whereOf(o)))
			}, "PROJECT", "NAME"),
		}, {
			Name:      "try",
			Usage:     "see whether an outlet answers",
			ArgsUsage: "PROJECT NAME",
			Description: "Exit codes: 0 it does; 1 it does not.\n\n" +
				terminal.Example("piston outlet try tidewick harbour-depot"),
			Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				t, err := cl.TryOutlet(ctx, args[0], args[1])
				if err == nil && t.Trouble != "" && !c.Bool("json") {
					return terminal.Ending(terminal.ExitFailed, errors.New(t.Trouble))
				}
				if err := told(c, t, err, args[1]+" answers."); err != nil || t.Trouble == "" {
					return err
				}
				return terminal.Ending(terminal.ExitFailed, nil)
			}, "PROJECT", "NAME"),
		}, {
			Name:        "drop",
			Usage:       "remove an outlet to which nothing ever went",
			ArgsUsage:   "PROJECT NAME",
			Description: terminal.Example("piston outlet drop tidewick harbour-depot"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				err := cl.DropOutlet(ctx, args[0], args[1])
				return told(c, map[string]any{"outlet": args[1], "dropped": err == nil}, err, "It is no more.")
			}, "PROJECT", "NAME"),
		}},
	}
}

// newOutlet reads what is said of an outlet.
func newOutlet(c *cli.Command) (in api.NewOutlet, err error) {
	in = api.NewOutlet{Kind: "folder", Folder: c.String("folder"), URL: c.String("url"), Client: c.String("client"),
		Takes: c.StringSlice("takes"), Scope: access.Scope{Pipelines: c.StringSlice("pipeline"),
			Branches: c.StringSlice("branch"), Tags: c.StringSlice("tag")}}
	switch {
	case c.Bool("testers"):
		in.Kind, in.Days = "testers", c.Int("days")
	case c.String("bucket") != "":
		in.Kind, in.URL, in.Region = "bucket", c.String("bucket"), c.String("region")
	case in.URL != "":
		in.Kind = "store"
	}
	if day := c.String("expires"); day != "" {
		at, err := time.Parse(time.DateOnly, day)
		if err != nil {
			return in, terminal.Usage("--expires %q: write a day as 2027-01-31", day)
		}
		in.Expires = &at
	}
	if file := c.String("secret-file"); file != "" {
		text, err := secretIn(file)
		if err != nil {
			return in, err
		}
		in.Secret = string(trimLineEnd(text))
	}
	return in, nil
}

// maxClientSecret is the most bytes that the secret of a client has: a key in PEM.
const maxClientSecret = 16 << 10

// secretIn reads a secret from a file, or from standard input when that is called -.
func secretIn(file string) ([]byte, error) {
	from := io.Reader(os.Stdin)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		from = f
	}
	text, err := io.ReadAll(io.LimitReader(from, maxClientSecret+1))
	if err == nil && len(text) > maxClientSecret {
		err = terminal.Usage("%s holds more than a client's secret or key may have (16 KiB)", file)
	}
	return text, err
}

func whereOf(o api.Outlet) string {
	switch {
	case o.URL != "":
		return o.URL
	case o.Folder == "":
		return "groups of testers"
	}
	return "the folder " + o.Folder
}
