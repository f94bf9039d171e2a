package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
)

func masterCommand() *cli.Command {
	return &cli.Command{
		Name:  "master",
		Usage: "look after the key that the service's secrets are encrypted under",
		Commands: []*cli.Command{{
			Name: "rotate", Usage: "encrypt every secret anew, under a new key, while the service goes on",
			Description: "Where the key is the service's own file, a new one is made, and the former kept beside it, since " +
				"it opens dumps of the\n" +
				"database made until now. Where the key is given by the environment or by systemd, put a new one before it " +
				"first.\n\n" + terminal.Example("piston master rotate"),
			Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
				r, err := cl.RotateMaster(ctx)
				sentence := fmt.Sprintf("%s were encrypted anew, to %s.", plural(r.Sealed, "record"), r.Recipient)
				if r.Former != "" {
					sentence += "\nThe former key is kept on the server, in " + r.Former +
						".\nBack up the new one, and remove the former when no dump of the database needs it."
				}
				return told(c, r, err, sentence)
			}),
		}},
	}
}
