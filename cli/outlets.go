package cli

import (
	"context"
	"errors"
	"fmt"

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
		Commands: []*cli.Command{{
			Name:        "list",
			Usage:       "list a project's outlets",
			ArgsUsage:   "PROJECT",
			Description: terminal.Example("piston outlet list tidewick"),
			Flags:       []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				list, err := cl.Outlets(ctx, args[0])
				return terminal.Listed(c, list, err, []string{"OUTLET", "KIND", "WHERE", "SET BY"},
					func(s *terminal.Screen, o api.Outlet) []string {
						return []string{o.Name, o.Kind, o.Folder, o.SetBy}
					}, "No outlets yet: piston outlet set makes one.")
			}, "PROJECT"),
		}, {
			Name:      "set",
			Usage:     "make an outlet, or change it",
			ArgsUsage: "PROJECT NAME",
			Description: "A folder is one of the server's machine, below that of the project's outlets (piston serve " +
				"--outlets). Each version is there whole\n" +
				"or not at all, and is never written over; current.json says which one people get. What is said of an outlet " +
				"takes the place of\n" +
				"what was said before.\n\n" +
				terminal.Example("piston outlet set tidewick harbour-depot --pipeline release --branch main"),
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "folder", Usage: "the folder; by default it has the outlet's name"},
				&cli.StringSliceFlag{Name: "pipeline", Usage: "a pipeline that may publish there by itself; none: any"},
				&cli.StringSliceFlag{Name: "branch", Usage: "a branch whose runs may"},
				&cli.StringSliceFlag{Name: "tag", Usage: "a tag whose runs may"},
				terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				o, err := cl.SetOutlet(ctx, args[0], args[1], api.NewOutlet{Kind: "folder", Folder: c.String("folder"),
					Scope: access.Scope{Pipelines: c.StringSlice("pipeline"), Branches: c.StringSlice("branch"),
						Tags: c.StringSlice("tag")}})
				return told(c, o, err, fmt.Sprintf("Releases can go to %s, the folder %s.", o.Name, o.Folder))
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
