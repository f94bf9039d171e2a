package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
)

func releaseCommand() *cli.Command {
	return &cli.Command{
		Name:  "release",
		Usage: "versions of apps that go to people: what is in them, and what became of them",
		Commands: []*cli.Command{releaseList(), releaseShow(), releaseMake(), releaseWithdraw(), releaseWords(), {
			Name:      "notes",
			Usage:     "show the notes of a release, or correct them in one language",
			ArgsUsage: "PROJECT VERSION [LANGUAGE]",
			Description: "A run that raises a version drafts its notes: from files where piston/app.toml names " +
				"them, else from the commits since\n" +
				"the last release. What a person wrote stays until --draft takes it back, and nobody writes over " +
				"what somebody else wrote\n" +
				"meanwhile.\n\n" +
				"Exit codes: 0 done; 1 shown, and a text is longer than stores take.\n\n" +
				terminal.Example("piston release notes tidewick 1.5.0", "piston release notes tidewick 1.5.0 da --edit",
					"piston release notes tidewick 1.5.0 da --file notes.txt"),
			Flags: []cli.Flag{appFlag,
				&cli.StringFlag{Name: "file", Usage: "write this file's text; - is standard input"},
				&cli.BoolFlag{Name: "edit", Usage: "write the text in $EDITOR"},
				&cli.BoolFlag{Name: "draft", Usage: "take the correction back: the draft holds again"}, terminal.JSONFlag},
			Action: terminal.Asking(releaseNotes, "PROJECT", "VERSION", "[LANGUAGE]"),
		}},
	}
}

func releaseNotes(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	ways := 0
	for _, name := range []string{"file", "edit", "draft"} {
		if c.IsSet(name) {
			ways++
		}
	}
	switch {
	case ways > 1:
		return terminal.Usage("--file, --edit and --draft are three ways; choose one")
	case ways == 1 && args[2] == "":
		return terminal.Usage("say in which language, as in piston release notes %s %s en", args[0], args[1])
	}
	args[2] = definition.Language(args[2])
	at := api.ReleasePath{App: c.String("app"), Name: args[1]}
	if at.App == "" {
		var err error
		if at.App, err = appOfRelease(ctx, cl, args[0], args[1]); err != nil {
			return err
		}
	}
	notes, err := cl.Notes(ctx, args[0], at)
	if err != nil {
		return err
	}
	if ways == 0 {
		return showNotes(c, notes, args[2])
	}
	was := api.ReleaseNote{Language: args[2]}
	for _, n := range notes.Languages {
		if n.Language == args[2] {
			was = n
		}
	}
	if c.Bool("draft") {
		err = cl.TakeBackNotes(ctx, args[0], at, args[2], was.Revision)
		return told(c, was, err, fmt.Sprintf("The notes of %s %s in %s are as they were drafted.", at.App, notes.Name,
			args[2]))
	}
	text, err := notesText(ctx, c, was)
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	in := api.NotesCorrection{Text: text, Revision: was.Revision}
	if err := cl.CorrectNotes(ctx, args[0], at, args[2], in); err != nil {
		return fmt.Errorf("%w%s", err, kept(c, text))
	}
	if notes, err = cl.Notes(ctx, args[0], at); err != nil {
		return err
	}
	return showNotes(c, notes, args[2])
}

// kept keeps a text that was written by hand and could not be sent, and says where.
func kept(c *cli.Command, text string) string {
	if !c.Bool("edit") {
		return ""
	}
	f, err := os.CreateTemp("", "piston-notes-*.txt")
	if err != nil {
		return ""
	}
	defer f.Close()
	if _, err := f.WriteString(text); err != nil {
		return ""
	}
	return "; your text is in " + f.Name()
}

// appOfRelease finds the app that has a version of some name.
func appOfRelease(ctx context.Context, cl *client.Client, project, name string) (string, error) {
	ledger, err := cl.Ledger(ctx, project, api.LedgerFilter{Contains: name, Limit: 1000})
	if err != nil {
		return "", err
	}
	app := ""
	for _, e := range ledger.Entries {
		switch {
		case e.Name != name:
		case app == "":
			app = e.App
		case app != e.App:
			return "", terminal.Usage("%s is a version of %s and of %s: say which by --app", name, app, e.App)
		}
	}
	if app == "" {
		return definition.SoleApp, nil // which says what is wrong
	}
	return app, nil
}

// notesText gets the text from where the command line says.
func notesText(ctx context.Context, c *cli.Command, was api.ReleaseNote) (string, error) {
	if c.Bool("edit") {
		return edited(ctx, was.Text)
	}
	var text []byte
	var err error
	if c.String("file") == "-" {
		text, err = io.ReadAll(io.LimitReader(os.Stdin, definition.MaxNotes+1))
	} else {
		text, err = readUpTo(c.String("file"), definition.MaxNotes+1)
	}
	if err != nil {
		return "", err
	}
	clean, problem := definition.CleanNotes(string(text))
	if problem != "" {
		return "", fmt.Errorf("%s cannot be used as notes: %s", c.String("file"), problem)
	}
	return clean, nil
}

// edited lets a person change a text in their editor.
func edited(ctx context.Context, text string) (string, error) {
	dir, err := os.MkdirTemp("", "piston-notes-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	at := filepath.Join(dir, "notes.txt")
	if err := os.WriteFile(at, []byte(text+"\n"), 0o600); err != nil {
		return "", err
	}
	words := strings.Fields(firstSet("VISUAL", "EDITOR"))
	if len(words) == 0 {
		words = []string{"vi"}
	}
	cmd := exec.CommandContext(ctx, words[0], append(words[1:], at)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stderr, os.Stderr
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("the editor %s: %w; nothing was changed", words[0], err)
	}
	now, err := readUpTo(at, definition.MaxNotes+1)
	if err != nil {
		return "", err
	}
	clean, problem := definition.CleanNotes(string(now))
	if problem != "" {
		return "", fmt.Errorf("the text cannot be used as notes: %s", problem)
	}
	return clean, nil
}

func firstSet(names ...string) string {
	for _, name := range names {
		if v := os.Getenv(name); v != "" {
			return v
		}
	}
	return ""
}
