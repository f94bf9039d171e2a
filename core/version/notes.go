package version

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Notes are what changes since the last release say to those who use the app, in groups.
type Notes struct {
	Breaking []string `json:"breaking"`
	New      []string `json:"new"`
	Mended   []string `json:"mended"`
	Other    []string `json:"other"`
}

// inside are types of changes that those who use the app see nothing of.
var inside = map[string]bool{"chore": true, "ci": true, "build": true, "test": true, "tests": true, "docs": true,
	"style": true, "refactor": true}

// Draft sorts changes, newest first, into notes. What a trailer Release-Note says wins over the description; "none"
// there leaves a change out. Changes that follow no convention are other ones.
func Draft(changes []Change) (n Notes) {
	for _, c := range changes {
		text := c.About
		if c.Note != "" {
			text = c.Note
		}
		if text == "" || strings.EqualFold(c.Note, "none") {
			continue
		}
		text = capital(text)
		switch {
		case c.Breaking:
			n.Breaking = append(n.Breaking, text)
		case c.Type == "feat":
			n.New = append(n.New, text)
		case c.Type == "fix" || c.Type == "perf":
			n.Mended = append(n.Mended, text)
		case c.Note != "" || !inside[c.Type]:
			n.Other = append(n.Other, text)
		}
	}
	return n
}

// capital begins a text with a capital letter.
func capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	return string(unicode.ToUpper(first)) + text[size:]
}

// String writes them as lines of Markdown; with headings where there is more than one group.
func (n Notes) String() string {
	groups := []struct {
		head  string
		lines []string
	}{{"Different from before", n.Breaking}, {"New", n.New}, {"Mended", n.Mended}, {"Also", n.Other}}
	several := 0
	for _, g := range groups {
		if len(g.lines) > 0 {
			several++
		}
	}
	var b strings.Builder
	for _, g := range groups {
		if len(g.lines) == 0 {
			continue
		}
		if several > 1 {
			if b.Len() > 0 {
				b.WriteString("\n")
			}
			b.WriteString(g.head + "\n")
		}
		for _, line := range g.lines {
			b.WriteString("- " + line + "\n")
		}
	}
	return b.String()
}

// NotesLimit is how many characters a platform's stores take of notes, in one language.
type NotesLimit struct {
	Platform   string `json:"platform" enum:"android,ios"`
	Characters int    `json:"characters"`
}

// NotesLimits are those of all platforms.
var NotesLimits = []NotesLimit{{"android", 500}, {"ios", 4000}}
