package cli

import (
	"context"
	"fmt"
	"sort"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/try"
)

// localSecretCommand keeps the secrets that piston try uses for the repository one is in.
func localSecretCommand() *cli.Command {
	return &cli.Command{
		Name:  "local-secret",
		Usage: "keep secrets for piston try on this machine, encrypted",
		Commands: []*cli.Command{
			{
				Name: "set", Usage: "set a secret of this repository's trials", ArgsUsage: "NAME",
				Description: "The value is asked for, or read from standard input, or from a file with --file. It is kept " +
					"encrypted by age, and never\n" +
					"leaves this machine: the service has its own, by piston secret.\n\n" +
					terminal.Example("piston local-secret set DEPOT_KEY",
						"piston local-secret set SERVICES:harbour --file services.json"),
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "file",
					Usage: "read the value from this file; steps get it as a file"}, terminal.JSONFlag}, purseFlags...),
				Action: withPurse(func(c *cli.Command, p *try.Purse, args []string) error {
					if err := access.SecretName(args[0]).Check(); err != nil {
						return terminal.Usage("%q is no name for a secret: %v", args[0], err)
					}
					in, err := secretValue(c, args[0])
					if err != nil {
						return err
					}
					p.Secrets[args[0]] = try.Secret{Kind: in.Kind, Value: in.Value}
					return told(c, map[string]any{"name": args[0], "kind": in.Kind, "file": p.File}, p.Save(),
						fmt.Sprintf("Secret %s is kept in %s.", args[0], p.File))
				}, "NAME"),
			},
			{
				Name: "list", Usage: "list them, without their values", Description: terminal.Example("piston local-secret list"),
				Flags: append([]cli.Flag{terminal.JSONFlag}, purseFlags...),
				Action: withPurse(func(c *cli.Command, p *try.Purse, _ []string) error {
					kinds := map[string]api.SecretKind{}
					var names []string
					for name, s := range p.Secrets {
						kinds[name] = s.Kind
						names = append(names, name)
					}
					if c.Bool("json") {
						return terminal.PrintJSON(terminal.Out(c), kinds)
					}
					s := terminal.NewScreen(terminal.Out(c))
					if len(names) == 0 {
						s.Line("No secrets for trials of this repository yet: piston local-secret set NAME")
						return nil
					}
					sort.Strings(names)
					var rows [][]string
					for _, name := range names {
						rows = append(rows, []string{name, string(kinds[name])})
					}
					s.Table([]string{"SECRET", "KIND"}, rows)
					return nil
				}),
			},
			{
				Name: "drop", Usage: "remove one", ArgsUsage: "NAME",
				Description: terminal.Example("piston local-secret drop DEPOT_KEY"),
				Flags:       append([]cli.Flag{terminal.JSONFlag}, purseFlags...),
				Action: withPurse(func(c *cli.Command, p *try.Purse, args []string) error {
					if _, ok := p.Secrets[args[0]]; !ok {
						return terminal.Ending(terminal.ExitFailed,
							fmt.Errorf("there is no secret %s; piston local-secret list shows what there is", args[0]))
					}
					delete(p.Secrets, args[0])
					return told(c, map[string]string{"dropped": args[0]}, p.Save(),
						fmt.Sprintf("Secret %s is removed from this machine.", args[0]))
				}, "NAME"),
			},
		},
	}
}

// withPurse makes an action of what is about the secrets of this repository's trials.
func withPurse(do func(c *cli.Command, p *try.Purse, args []string) error, names ...string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := terminal.Words(c, names...)
		if err != nil {
			return err
		}
		w, err := source.OpenWorkTree(ctx, ".")
		if err != nil {
			return terminal.Ending(terminal.ExitFailed, err)
		}
		p, err := purse(c, w.Dir)
		if err != nil {
			return err
		}
		return do(c, p, args)
	}
}
