package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
)

// ofManual is the section of the system's manual that commands are in.
const ofManual = 1

func manualCommand() *cli.Command {
	return &cli.Command{
		Name:      "manual",
		Usage:     "print the manual page of a command, or of all (roff, for man); or write a page for each",
		ArgsUsage: "[COMMAND]",
		Description: "With --into, pages are written to a folder: one of all commands, and one of each, such as\n" +
			"piston-shell.1, which man piston-shell shows. Put them where man looks: a folder man1 of the manual's path.\n\n" +
			terminal.Example("piston manual shell | man -l -", "piston manual --into ~/.local/share/man/man1"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "into", Usage: "the folder", TakesFile: true}, terminal.JSONFlag},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "[COMMAND]")
			if err != nil {
				return err
			}
			pages, err := manualPages()
			if err != nil {
				return err
			}
			if folder := c.String("into"); folder != "" {
				return writePages(c, folder, pages)
			}
			name := "piston"
			if args[0] != "" {
				name += "-" + args[0]
			}
			text, is := pages[name]
			if !is {
				return terminal.Usage("no command is called %q: piston help lists them", args[0])
			}
			if c.Bool("json") {
				return terminal.OrJSON(c, map[string]string{"roff": text}, nil)
			}
			_, err = fmt.Fprintln(terminal.Out(c), text)
			return err
		},
	}
}

// manualPages are the pages of the manual, by name.
func manualPages() (map[string]string, error) {
	app := App()
	text, err := docs.ToManWithSection(app, ofManual)
	if err != nil {
		return nil, err
	}
	pages := map[string]string{app.Name: text}
	for _, of := range app.Commands {
		one := *of
		one.Name = app.Name + "-" + of.Name
		if pages[one.Name], err = docs.ToManWithSection(&one, ofManual); err != nil {
			return nil, err
		}
	}
	return pages, nil
}

func writePages(c *cli.Command, folder string, pages map[string]string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for name, text := range pages {
		path := filepath.Join(folder, fmt.Sprintf("%s.%d", name, ofManual))
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return terminal.OrJSON(c, map[string]int{"pages": len(pages)}, nil)
	}
	terminal.NewScreen(terminal.Out(c)).Line("%d pages are in %s.", len(pages), folder)
	return nil
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
