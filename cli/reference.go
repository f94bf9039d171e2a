package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/httpapi"
	"gentlepiston.example/piston/standin/shop"
)

// referenceCommand prints the generated documents; make reference writes them into docs/reference.
func referenceCommand() *cli.Command {
	return &cli.Command{
		Name: "reference", Hidden: true, ArgsUsage: "openapi|outlet|pipeline|schema|findings|commands",
		Usage: "print a generated reference",
		Action: func(_ context.Context, c *cli.Command) error {
			w := terminal.Out(c)
			documents := map[string]func() ([]byte, error){"openapi": httpapi.Document, "outlet": shop.Describe,
				"schema": definition.Schema}
			if make, is := documents[c.Args().First()]; is {
				text, err := make()
				if err == nil {
					_, err = w.Write(append(text, '\n'))
				}
				return err
			}
			switch c.Args().First() {
			case "pipeline":
				return definition.WriteReference(w)
			case "findings":
				return check.WriteReference(w)
			case "commands":
				writeCommands(w, c.Root())
				return nil
			}
			return terminal.Usage("piston reference takes openapi, outlet, pipeline, schema, findings or commands")
		},
	}
}

func writeCommands(w io.Writer, root *cli.Command) {
	fmt.Fprintf(w, "# Commands\n\nMade from the program by `make reference`; do not edit.\n\n%s\n", root.Description)
	var walk func(c *cli.Command, name string)
	walk = func(c *cli.Command, name string) {
		for _, sub := range c.Commands {
			if sub.Hidden || sub.Name == "help" {
				continue
			}
			full := name + " " + sub.Name
			if len(sub.Commands) == 0 || sub.Action != nil && sub.Description != "" {
				writeCommand(w, sub, full)
			}
			walk(sub, full)
		}
	}
	walk(root, root.Name)
}

func writeCommand(w io.Writer, c *cli.Command, full string) {
	fmt.Fprintf(w, "\n## %s\n\n%s.\n\n", strings.TrimSpace(full+" "+c.ArgsUsage), capital(c.Usage))
	if c.Description != "" {
		fmt.Fprintf(w, "%s\n\n", c.Description)
	}
	if len(c.Flags) == 0 {
		return
	}
	fmt.Fprintln(w, "| option | what it does |\n| --- | --- |")
	for _, f := range c.Flags {
		if v, ok := f.(cli.VisibleFlag); ok && !v.IsVisible() || f.Names()[0] == "help" {
			continue
		}
		d, ok := f.(cli.DocGenerationFlag)
		if !ok {
			continue
		}
		text := d.GetUsage()
		if v := d.GetDefaultText(); d.TakesValue() && v != "" && v != `""` {
			text += "; default " + strings.Trim(v, `"`)
		}
		fmt.Fprintf(w, "| `--%s` | %s |\n", f.Names()[0], strings.ReplaceAll(text, "|", `\|`))
	}
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
