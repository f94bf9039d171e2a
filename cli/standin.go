package cli

import (
	"context"
	"fmt"
	"net"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/standin"
)

func standInCommand() *cli.Command {
	return &cli.Command{
		Name:  "stand-in",
		Usage: "start a stand-in of something outside, for trying things",
		Commands: []*cli.Command{standInStore(), {
			Name:  "mailbox",
			Usage: "everybody's mailboxes: a mail server that keeps what it is given, and a page that shows it",
			Description: "Nothing reaches anybody. Addresses at bounce.example are refused.\n\n" +
				terminal.Example("piston stand-in mailbox --listen 127.0.0.1:2525 --page 127.0.0.1:8025",
					"piston serve --mail-server 127.0.0.1:2525 --mail-from builds@tidewick.example --mail-plain"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "listen", Usage: "where it takes mail", Value: "127.0.0.1:2525"},
				&cli.StringFlag{Name: "page", Usage: "where it shows it", Value: "127.0.0.1:8025"}, terminal.JSONFlag},
			Action: func(ctx context.Context, c *cli.Command) error {
				if _, err := terminal.Words(c); err != nil {
					return err
				}
				takes, err := net.Listen("tcp", c.String("listen"))
				if err != nil {
					return terminal.Ending(terminal.ExitFailed, err)
				}
				page, err := net.Listen("tcp", c.String("page"))
				if err != nil {
					return terminal.Ending(terminal.ExitFailed, err)
				}
				at := map[string]string{"mail": takes.Addr().String(), "page": "http://" + page.Addr().String()}
				err = told(c, at, nil, fmt.Sprintf("A stand-in takes mail at %s, and shows it at %s\nCtrl-C stops it.",
					at["mail"], at["page"]))
				if err != nil {
					return err
				}
				return standin.NewMailbox().Serve(ctx, takes, page)
			},
		}},
	}
}
