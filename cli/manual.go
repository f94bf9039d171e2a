package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
)

// ofManual is the section of the system's manual that commands are in.
const ofManual = 1

func manualCommand() *cli.Command {
	return &cli.Command{
		Name:  "manual",
		Usage: "print the manual page of all commands (roff, for man)",
		Description: "Put it where man looks: a folder man1 of the manual's path.\n\n" +
			terminal.Example("piston manual > ~/.local/share/man/man1/piston.1", "piston manual | man -l -"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c); err != nil {
				return err
			}
			text, err := docs.ToManWithSection(App(), ofManual)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, map[string]string{"roff": text}, err)
			}
			_, err = fmt.Fprintln(terminal.Out(c), text)
			return err
		},
	}
}

// completion makes the command that prints what a shell needs to complete commands one of the others.
func completion(c *cli.Command) {
	c.Hidden = false
	c.Usage = "print what a shell needs to complete the commands: bash, zsh, fish or pwsh"
	c.Description = "Have it read when the shell starts.\n\n" +
		terminal.Example("source <(piston completion bash)    # in ~/.bashrc",
			"source <(piston completion zsh)     # in ~/.zshrc",
			"piston completion fish > ~/.config/fish/completions/piston.fish")
}
