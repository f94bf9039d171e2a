package check

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// notes finds files with notes that cannot be used, or are longer than stores take.
func (a appPlaces) notes(files versionfile.Tree) (found []definition.Finding) {
	if a.app.Notes == nil || a.app.Notes.Files == "" {
		return nil
	}
	for _, n := range a.app.ReleaseNotes(files, nil) {
		if n.Problem != "" {
			found = append(found, whole("notes-refused", n.File, "these notes cannot be used: "+n.Problem, "Mend the file."))
		}
		for _, l := range version.NotesLimits {
			if length := utf8.RuneCountInString(n.Text); length > l.Characters &&
				slices.Contains(a.app.PlatformsIn(a.found), versionfile.Platform(l.Platform)) {
				found = append(found, whole("notes-refused", n.File, fmt.Sprintf(
					"these notes have %d characters; stores for %s take %d", length, l.Platform, l.Characters), "Shorten them."))
			}
		}
	}
	return found
}
