package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/service"
)

func secretCommand() *cli.Command {
	return &cli.Command{
		Name:  "secret",
		Usage: "set, list and drop a project's secrets",
		Commands: []*cli.Command{
			{
				Name:      "set",
				Usage:     "set a secret; its value is never shown again",
				ArgsUsage: "PROJECT NAME",
				Description: "The value is asked for, or read from standard input when that is no terminal, or from a file with --file.\n" +
					"It is never an argument: those are seen by everyone on the machine and stay in the shell's history.\n\n" +
					example("piston secret set tidewick DEPOT_TOKEN", "piston secret set tidewick SERVICES --file services.json"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "file", Usage: "read the value from this file; steps get it as a file"},
					jsonFlag,
				},
				Action: setSecret,
			},
			{
				Name: "list", Usage: "list secrets, without their values", ArgsUsage: "PROJECT", Description: example("piston secret list tidewick"),
				Flags: []cli.Flag{jsonFlag}, Action: asking(listSecrets, "PROJECT"),
			},
			{
				Name: "drop", Usage: "remove a secret", ArgsUsage: "PROJECT NAME", Description: example("piston secret drop tidewick DEPOT_TOKEN"),
				Flags: []cli.Flag{jsonFlag}, Action: asking(dropSecret, "PROJECT", "NAME"),
			},
		},
	}
}

func setSecret(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 2 {
		return usage("piston secret set takes PROJECT NAME; the value is asked for, or comes by --file or standard input, never as an argument")
	}
	args, err := words(c, "PROJECT", "NAME")
	if err != nil {
		return err
	}
	cl, err := connect()
	if err != nil {
		return err
	}
	in, err := secretValue(c, args[1])
	if err != nil {
		return err
	}
	s, err := cl.SetSecret(ctx, args[0], args[1], in)
	if err != nil || c.Bool("json") {
		return orJSON(c, s, err)
	}
	fmt.Fprintf(out(c), "Secret %s of %s is set (%s, revision %d).\n", s.Name, args[0], s.Kind, s.Revision)
	return nil
}

// secretValue gets a secret's value from a file, from a person, or from standard input.
func secretValue(c *cli.Command, name string) (in api.NewSecret, err error) {
	in.Kind = api.TextSecret
	switch {
	case c.String("file") != "":
		in.Kind = api.FileSecret
		in.Value, err = readLimited(c.String("file"))
	case term.IsTerminal(int(os.Stdin.Fd())):
		var text string
		text, err = askSecret("Value of " + name + ": ")
		in.Value = []byte(text)
	default:
		in.Value, err = io.ReadAll(io.LimitReader(os.Stdin, service.MaxSecret+2))
		in.Value = trimLineEnd(in.Value)
	}
	return in, err
}

// trimLineEnd drops the one line break that echo and editors put at the end.
func trimLineEnd(b []byte) []byte {
	if n := len(b); n > 0 && b[n-1] == '\n' {
		b = b[:n-1]
		if n := len(b); n > 0 && b[n-1] == '\r' {
			b = b[:n-1]
		}
	}
	return b
}

func readLimited(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > service.MaxSecret {
		return nil, coded{exitUsage, errors.New(path + " is larger than a secret may be (1 MiB)")}
	}
	return os.ReadFile(path)
}

func listSecrets(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	list, err := cl.Secrets(ctx, args[0])
	if err != nil || c.Bool("json") {
		return orJSON(c, list, err)
	}
	s := newScreen(out(c))
	if len(list) == 0 {
		s.line("No secrets yet: piston secret set %s NAME", args[0])
		return nil
	}
	var rows [][]string
	for _, v := range list {
		rows = append(rows, []string{v.Name, string(v.Kind), fmt.Sprint(v.Revision), ago(v.Updated), v.By})
	}
	s.table([]string{"SECRET", "KIND", "REVISION", "SET", "BY"}, rows)
	return nil
}

func dropSecret(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	if err := cl.DropSecret(ctx, args[0], args[1]); err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(out(c), map[string]string{"dropped": args[1]})
	}
	fmt.Fprintf(out(c), "Secret %s of %s is removed.\n", args[1], args[0])
	return nil
}
