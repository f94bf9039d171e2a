package executor

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"unicode/utf8"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/definition"
)

// maxList is the most bytes of a list of names.
const maxList = 8 << 20

// deals carries out a step that deals tests among the variants of the job. It runs nothing.
type deals struct{ *Job }

func (d deals) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	items, err := d.items(step.Deal)
	if err != nil {
		return Outcome{Err: err}
	}
	// The list is kept with the run's records, which hold no secret.
	if text := strings.Join(items, "\n"); d.Attempt.Hide(text) != text {
		return Outcome{Err: errors.New("a name to deal holds a secret: nothing is dealt")}
	}
	var mine api.Dealt
	err = d.Attempt.Insist(ctx, "dealing", func() (err error) {
		mine, err = d.Attempt.Post.Deal(ctx, d.Attempt.ID(), api.DealRequest{Step: i, Items: items})
		return err
	})
	if err != nil {
		return Outcome{Err: err}
	}
	if err := d.put(path.Clean(step.Deal.Into), strings.Join(append(mine.Items, ""), "\n")); err != nil {
		return Outcome{Err: err}
	}
	d.Attempt.Say(i, "%d of %d fell to this job, among %d: about %.1f s, the most for one %.1f s", len(mine.Items),
		len(items), mine.Among, float64(mine.Ms)/1000, float64(mine.MostMs)/1000)
	if unknown := len(items) - mine.Known; unknown > 0 {
		d.Attempt.Say(i, "of %d no time is known yet; each counts as the others do on the average", unknown)
	}
	return Outcome{}
}

// items are the names that are dealt, each once.
func (d deals) items(do *action.Deal) (items []string, err error) {
	if do.List == "" {
		found, err := artifact.Find(d.Files.FS(), do.Files)
		if err != nil {
			return nil, err
		}
		for _, f := range found.Files {
			items = append(items, f.Path)
		}
		if len(items) == 0 {
			return nil, fmt.Errorf("nothing matches %s", strings.Join(do.Files, ", "))
		}
	} else {
		text, err := d.readUpTo(path.Clean(do.List), maxList+1)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("there is no %s in the workspace; did a step write it elsewhere?", do.List)
		case err != nil:
			return nil, err
		case len(text) > maxList:
			return nil, fmt.Errorf("%s has more than %d MB", do.List, maxList>>20)
		case !utf8.Valid(text):
			return nil, fmt.Errorf("%s is no text", do.List)
		}
		seen := map[string]bool{}
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line != "" && !seen[line] {
				items = append(items, line)
				seen[line] = true
			}
		}
		if len(items) == 0 {
			return nil, fmt.Errorf("%s names nothing to deal", do.List)
		}
	}
	if len(items) > action.MaxDealt {
		return nil, fmt.Errorf("%d names to deal; at most %d are", len(items), action.MaxDealt)
	}
	return items, nil
}

// put writes a plain file of the workspace, and the folders it is in.
func (d deals) put(name, text string) error {
	if err := d.Files.LeadTo(path.Dir(name)); err != nil {
		return err
	}
	info, err := d.Files.Lstat(name)
	if err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", name)
	}
	return d.Files.Write(name, text)
}
