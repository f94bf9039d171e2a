package version

import (
	"regexp"
	"strings"
	"unicode"
)

// Change is what one commit says of itself (Conventional Commits 1.0.0, Specification).
type Change struct {
	Type     string // such as feat or fix, in small letters; "" when it follows no convention
	Scope    string
	About    string // the description, else the subject
	Breaking bool
	// Note is what the trailer Release-Note says for those who use the app: it wins over the description. "none" there
	// keeps the commit out of the notes.
	Note string
}

// RunTrailer names the run whose version a commit brought into the repository. What made it is no news to those who use
// the app.
const RunTrailer = "Piston-Run-Of"

var (
	changeForm   = regexp.MustCompile(`^([A-Za-z]+)(?:\(([^()\r\n]*)\))?(!)?: +(\S.*)$`)
	breakingForm = regexp.MustCompile(`(?m)^BREAKING[ -]CHANGE: +\S`)
	ownForm      = regexp.MustCompile(`(?m)^` + RunTrailer + `: +\S`)
	noteForm     = regexp.MustCompile(`(?im)^Release-Note: *(\S.*(?:\n[ \t]+\S.*)*)$`)
)

// ReadChange reads a commit's message.
func ReadChange(message string) Change {
	message = strings.ReplaceAll(strings.ToValidUTF8(message, "\ufffd"), "\r\n", "\n")
	subject, _, _ := strings.Cut(strings.TrimLeft(message, "\n"), "\n")
	c := Change{About: strings.TrimSpace(subject)}
	if m := changeForm.FindStringSubmatch(c.About); m != nil {
		c = Change{Type: strings.ToLower(m[1]), Scope: m[2], Breaking: m[3] != "", About: strings.TrimSpace(m[4])}
		c.Breaking = c.Breaking || breakingForm.MatchString(message)
	}
	c.About, c.Scope = shown(c.About, 200), shown(c.Scope, 50)
	if m := noteForm.FindStringSubmatch(message); m != nil {
		c.Note = shown(strings.Join(strings.Fields(m[1]), " "), 500)
	}
	if ownForm.MatchString(message) {
		c.Note = "none"
	}
	return c
}

// ReadChanges reads the messages of commits.
func ReadChanges(messages []string) []Change {
	changes := make([]Change, len(messages))
	for i, m := range messages {
		changes[i] = ReadChange(m)
	}
	return changes
}

// shown is a text of strangers as it may be shown and kept: without control characters, and not too long.
func shown(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, text)
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}

// SizeOf is by how much commits since the last release raise its name (Conventional Commits 1.0.0, Summary): what
// breaks is major, a feature minor, everything else a patch. Below 1.0.0 nothing is promised yet (Semantic Versioning
// 2.0.0, item 4), so that what breaks raises the minor number there. why tells which commit decided.
func SizeOf(last Parts, changes []Change) (by Size, why string) {
	by, why = Patch, "no commit says that it is more than a patch"
	for _, c := range changes {
		switch {
		case c.Breaking:
			if last.number(0) == 0 {
				return Minor, "“" + c.About + "” breaks what was, below 1.0.0"
			}
			return Major, "“" + c.About + "” breaks what was"
		case c.Type == "feat" && by == Patch:
			by, why = Minor, "“"+c.About+"” is a feature"
		}
	}
	return by, why
}
