package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
)

func signInCommand() *cli.Command {
	return &cli.Command{
		Name:  "sign-in",
		Usage: "sign in to a service and remember it for the commands that follow",
		Description: "Asks for the password, or reads it from standard input when that is no terminal, and keeps a token in\n" +
			"piston/client.json of your configuration folder (or the file PISTON_CONFIG names).\n\n" +
			example("piston sign-in http://127.0.0.1:7460"),
		ArgsUsage: "ADDRESS",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "who you are", Value: "admin"},
			jsonFlag,
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := words(c, "ADDRESS")
			if err != nil {
				return err
			}
			password, err := askSecret("Password of " + c.String("name") + ": ")
			if err != nil {
				return err
			}
			hostname, _ := os.Hostname()
			cl := client.New(args[0], "")
			issued, err := cl.SignIn(ctx, api.Credentials{Name: c.String("name"), Password: password}, "command line on "+hostname)
			if err != nil {
				return err
			}
			path, err := settingsPath()
			if err != nil {
				return err
			}
			if err := saveSettings(path, settings{Server: cl.Address, Token: issued.Secret}); err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(out(c), map[string]string{"server": cl.Address, "name": c.String("name"), "settings": path})
			}
			fmt.Fprintf(out(c), "Signed in to %s as %s; kept in %s.\n", cl.Address, c.String("name"), path)
			return nil
		},
	}
}

// askSecret reads one line without showing it, or from standard input when that is no terminal.
func askSecret(prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(os.Stderr, prompt)
		text, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	line = strings.TrimRight(line, "\r\n")
	if line == "" && err != nil {
		return "", coded{exitUsage, errors.New("nothing came from standard input")}
	}
	return line, nil
}
