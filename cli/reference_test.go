package cli

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
)

// The generated documents are those the program makes now; make reference writes them.
func TestReferencesAreCurrent(t *testing.T) {
	for kind, file := range map[string]string{"openapi": "openapi.json", "outlet": "outlet-protocol.json", "pipeline": "pipeline.md",
		"schema": "pipeline.schema.json", "commands": "commands.md"} {
		var got bytes.Buffer
		app := App()
		app.Writer = &got
		require.NoError(t, app.Run(t.Context(), []string{"piston", "reference", kind}))
		kept, err := os.ReadFile("../docs/reference/" + file)
		require.NoError(t, err)
		assert.Equal(t, string(kept), got.String(), "docs/reference/%s is out of date: run make reference", file)
	}
}

// Every command a person can call has a help text with an example, and --json when it answers something.
func TestEveryCommandHelps(t *testing.T) {
	serves := map[string]bool{"serve": true, "runner": true}
	var walk func(c *cli.Command)
	walk = func(c *cli.Command) {
		for _, sub := range c.Commands {
			if sub.Hidden || sub.Name == "help" {
				continue
			}
			assert.NotEmpty(t, sub.Usage, sub.Name)
			if len(sub.Commands) == 0 {
				assert.Contains(t, sub.Description, "Example:\n", sub.Name)
				names := ""
				for _, f := range sub.Flags {
					names += " " + strings.Join(f.Names(), " ")
				}
				assert.Equal(t, !serves[sub.Name], strings.Contains(names, "json"), "%s and --json", sub.Name)
			}
			walk(sub)
		}
	}
	walk(App())
}

func TestTerminalsAreSafeFromStrangers(t *testing.T) {
	assert.Equal(t, "a\uFFFD[31mb\uFFFD", terminal.Short("a\x1b[31mb\n", 20))
	assert.Equal(t, "abcd…", terminal.Short("abcdefgh", 5))
	assert.Equal(t, "red", terminal.CleanLine("\x1b[31mred\x1b[0m\x07", false))
	assert.Regexp(t, regexp.MustCompile(`^\x1b\[31mred`), terminal.CleanLine("\x1b[31mred\x07", true))
}
