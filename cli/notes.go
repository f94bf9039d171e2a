package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/source"
)

// showNotes shows those in all languages, or in one. One alone goes into a pipe as it is: what is said
// of it goes beside.
func showNotes(c *cli.Command, notes api.ReleaseNotes, only string) error {
	tooLong, shown := false, []api.ReleaseNote{}
	for _, n := range notes.Languages {
		if only == "" || n.Language == only {
			shown, tooLong = append(shown, n), tooLong || len(n.TooLong) > 0
		}
	}
	if len(shown) == 0 && only != "" {
		return terminal.Ending(terminal.ExitFailed, fmt.Errorf("there are no notes of %s in %s",
			strings.TrimSpace(notes.App+" "+notes.Name), only))
	}
	notes.Languages = shown
	if c.Bool("json") {
		if err := terminal.PrintJSON(terminal.Out(c), notes); err != nil {
			return err
		}
	} else {
		printNotes(terminal.NewScreen(terminal.Out(c)), notes)
	}
	if tooLong {
		return terminal.Ending(terminal.ExitFailed, nil)
	}
	return nil
}

func printNotes(s *terminal.Screen, notes api.ReleaseNotes) {
	if len(notes.Languages) == 0 {
		s.Line("%s %s has no notes.", notes.App, notes.Name)
	}
	alone := len(notes.Languages) == 1 && !s.Person
	for i, n := range notes.Languages {
		if i > 0 {
			s.Line("")
		}
		head := s
		if alone {
			head = terminal.NewScreen(os.Stderr)
		}
		head.Line("%s  %s", head.In(terminal.Strong, n.Language), head.In(terminal.Faint, originOf(n)))
		head.Line("%s", lengthOf(head, n.Characters, notes.Limits))
		if n.Problem != "" {
			head.Line("%s", head.In(terminal.Red, n.File+" cannot be used: "+n.Problem))
		}
		s.Line("%s", strings.TrimRight(n.Text, "\n"))
	}
}

// originOf tells where notes come from.
func originOf(n api.ReleaseNote) string {
	switch n.From {
	case "person":
		return fmt.Sprintf("corrected by %s, %s", n.By, n.At.Local().Format("2 January 15:04"))
	case "file":
		return "from " + n.File
	}
	return "drafted from commits"
}

// lengthOf tells how long notes are, and which stores do not take so many characters.
func lengthOf(s *terminal.Screen, characters int, limits []version.NotesLimit) string {
	var parts []string
	for _, l := range limits {
		part := fmt.Sprintf("%d of %d for %s", characters, l.Characters, l.Platform)
		if characters > l.Characters {
			part = s.In(terminal.Red, part+": too long")
		} else {
			part = s.In(terminal.Faint, part)
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, s.In(terminal.Faint, ", "))
}

// draftNotes shows what the notes of a release would be from here.
func draftNotes(ctx context.Context, c *cli.Command) error {
	if _, err := terminal.Words(c); err != nil {
		return err
	}
	w, a, err := appHereOf(ctx, c)
	if err != nil {
		return err
	}
	messages, err := w.SinceTag(ctx, source.Since{Final: true, And: a.released()})
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	notes := api.ReleaseNotes{App: a.app.Name, Limits: api.LimitsFor(a.app.PlatformsIn(a.found))}
	for _, n := range a.app.ReleaseNotes(treeOf(w), version.ReadChanges(messages)) {
		notes.Languages = append(notes.Languages, api.Drafted(n).Measured(notes.Limits))
	}
	return showNotes(c, notes, definition.Language(c.String("language")))
}
