package api

import (
	"slices"
	"time"
	"unicode/utf8"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
)

// ReleasePath is whose notes are meant.
type ReleasePath struct {
	App string `path:"app" doc:"the app, as piston/app.toml calls it; app when it names none" maxLength:"63"`
	// The version's name.
	Name string `path:"name" doc:"the version's name, such as 1.5.0" maxLength:"64"`
}

// ReleaseNotes are what those who use an app are told of a release.
type ReleaseNotes struct {
	App  string `json:"app"`
	Name string `json:"name"`
	// What stores take, for each platform that the release is for.
	Limits    []version.NotesLimit `json:"limits"`
	Languages []ReleaseNote        `json:"languages"`
}

// ReleaseNote is that in one language.
type ReleaseNote struct {
	// Its tag (RFC 5646), such as de or pt-BR.
	Language string `json:"language"`
	Text     string `json:"text"`
	// How long it is, as stores count.
	Characters int `json:"characters"`
	// The platforms whose stores do not take so many.
	TooLong []string `json:"too_long,omitempty" enum:"android,ios"`
	// Whether it is in the language of the commits.
	Main bool `json:"main,omitempty"`
	// Where it comes from.
	From string `json:"from" enum:"commits,file,person"`
	// The file in the repository it stands in, or stood before it was corrected.
	File string `json:"file,omitempty"`
	// Why the file cannot be used.
	Problem string `json:"problem,omitempty"`
	// What it was before a person corrected it.
	Draft string     `json:"draft,omitempty"`
	By    string     `json:"by,omitempty"`
	At    *time.Time `json:"at,omitempty"`
	// Pass it along with a correction, so that nobody writes over what somebody else has written meanwhile.
	Revision int `json:"revision"`
}

// NotesCorrection is what a person says instead of a draft.
type NotesCorrection struct {
	Text string `json:"text" maxLength:"32768"`
	// That of the notes it corrects; 0 for a language that has none.
	Revision int `json:"revision" minimum:"0"`
}

// LimitsFor are what the stores of some platforms take of notes.
func LimitsFor[P ~string](platforms []P) []version.NotesLimit {
	list := []version.NotesLimit{}
	for _, l := range version.NotesLimits {
		if slices.Contains(platforms, P(l.Platform)) {
			list = append(list, l)
		}
	}
	return list
}

// Measured is the note with its length, and which stores do not take so many characters.
func (n ReleaseNote) Measured(limits []version.NotesLimit) ReleaseNote {
	n.Characters = utf8.RuneCountInString(n.Text)
	for _, l := range limits {
		if n.Characters > l.Characters {
			n.TooLong = append(n.TooLong, l.Platform)
		}
	}
	return n
}

// Drafted is a note as it is drafted.
func Drafted(d definition.Note) ReleaseNote {
	n := ReleaseNote{Language: d.Language, Text: d.Text, From: "commits", File: d.File, Problem: d.Problem, Main: d.Main}
	if n.File != "" {
		n.From = "file"
	}
	return n
}
