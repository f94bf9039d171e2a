package executor

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/definition"
)

// note carries out a step that puts a note on the run's page. It runs nothing: it reads one file of the workspace, in
// bounds, and hides what is to be hidden.
type note struct{ *Job }

func (n note) execute(_ context.Context, i int, step *definition.Step) Outcome {
	text := definition.Fill(step.Note.Text, n.Environment(step))
	if file := step.Note.File; file != "" {
		more, err := n.readNote(path.Clean(file))
		if err != nil {
			return Outcome{Err: fmt.Errorf("the note %s: %w", file, err)}
		}
		text = strings.TrimSpace(text + "\n\n" + more)
	}
	text = clean(n.Attempt.Hide(clean(text))) // a NUL within a secret must not keep it from being found
	if len(text) > action.MaxNote {
		text = clean(text[:action.MaxNote]) + "\n\n…"
		n.Attempt.Say(i, "the note is longer than 64 KiB, and was cut")
	}
	return Outcome{Note: text}
}

// clean takes out of a text what is no text.
func clean(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "")
}

// readNote reads a little more of a file than is kept, so that a longer one is known as such.
func (n note) readNote(name string) (string, error) {
	info, err := n.Files.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", errors.New("there is no such file in the workspace; did a step write it elsewhere?")
	case err != nil:
		return "", err
	case !info.Mode().IsRegular():
		return "", errors.New("it is no plain file")
	}
	f, err := n.Files.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	// What is hidden may be longer than what stands for it, so that more is read than is kept.
	text, err := io.ReadAll(io.LimitReader(f, 4*action.MaxNote))
	return string(text), err
}
