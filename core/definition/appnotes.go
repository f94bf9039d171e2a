package definition

import (
	"bytes"
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// AppNotes says where the notes of a release come from.
type AppNotes struct {
	// Files with the notes of the next release, one for each language. {language} stands for its tag (BCP 47), such as de
	// or pt-BR.
	//
	//	files = "notes/{language}.txt"
	Files string `toml:"files"`
	// The language the commits are written in, which their draft is of. Default: en.
	//
	//	language = "da"
	Language string `toml:"language"`
}

// Note is what is told of a release in one language.
type Note struct {
	Language string `json:"language"`
	Text     string `json:"text"`
	// The file it stands in; "" for a draft from commits.
	File string `json:"file,omitempty"`
	// Why it cannot be used; Text is "" then.
	Problem string `json:"problem,omitempty"`
	// Whether it is in the language of the commits.
	Main bool `json:"main,omitempty"`
}

const (
	languageMark = "{language}"
	// commitLanguage is what commits are written in unless app.toml says another.
	commitLanguage = "en"
	// maxLanguages bounds the languages of an app.
	maxLanguages = 100
)

// MaxNotes bounds the notes in one language, in bytes: what the most generous store takes, several times.
const MaxNotes = 32 << 10

var languageForm = regexp.MustCompile(`^[A-Za-z]{2,3}(?:-[A-Za-z0-9]{1,8}){0,3}$`)

// IsLanguage tells a language tag as stores use them (RFC 5646, section 2.1, in its usual forms).
func IsLanguage(tag string) bool { return languageForm.MatchString(tag) }

// Language gives a tag as it is written (RFC 5646, section 2.1.1): pt-BR and zh-Hant, however somebody types it.
func Language(tag string) string {
	parts := strings.Split(strings.ToLower(tag), "-")
	for i, part := range parts[1:] {
		switch len(part) {
		case 2:
			parts[i+1] = strings.ToUpper(part)
		case 4:
			parts[i+1] = strings.ToUpper(part[:1]) + part[1:]
		}
	}
	return strings.Join(parts, "-")
}

func (v *validator) appNotes(n AppNotes, at func(string) []string) {
	if n.Files != "" {
		v.relative(n.Files, at("files")...)
	}
	if n.Files != "" && strings.Count(n.Files, languageMark) != 1 {
		v.add("bad-value", "files does not say where the language stands in the name",
			`Write {language} once, as in "notes/{language}.txt".`, at("files")...)
	}
	if n.Language != "" && !IsLanguage(n.Language) {
		v.add("bad-value", "no language has this tag", `Write it as "en" or "pt-BR".`, at("language")...)
	}
}

// ReleaseNotes gives what is told of the app's next release, by language: what stands in files, and for the language of
// the commits, when it has none, their draft.
func (a *App) ReleaseNotes(t versionfile.Tree, changes []version.Change) (list []Note) {
	n := a.Notes
	if n == nil {
		n = &AppNotes{}
	}
	for _, file := range n.filesIn(t.Paths) {
		note := n.read(t, file)
		if i := slices.IndexFunc(list, func(o Note) bool { return o.Language == note.Language }); i >= 0 {
			list[i].Text, list[i].Problem = "", file+" is of the same language"
			continue
		}
		list = append(list, note)
	}
	draft := Note{Language: Language(cmp.Or(n.Language, commitLanguage)),
		Text: strings.TrimSpace(wholeLines(version.Draft(changes).String(), MaxNotes))}
	if !slices.ContainsFunc(list, func(n Note) bool { return n.Language == draft.Language }) {
		list = append(list, draft)
	}
	for i := range list {
		list[i].Main = list[i].Language == draft.Language
	}
	slices.SortFunc(list, func(a, b Note) int { return strings.Compare(a.Language, b.Language) })
	return list
}

// wholeLines cuts a text at the end of a line, so that it has no more than so many bytes.
func wholeLines(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return text[:strings.LastIndexByte(text[:most], '\n')+1]
}

// filesIn are those of a repository's files that are notes.
func (n AppNotes) filesIn(paths []string) (list []string) {
	if n.Files == "" {
		return nil
	}
	for _, p := range paths {
		if n.languageOf(p) != "" && len(list) < maxLanguages {
			list = append(list, p)
		}
	}
	return list
}

// languageOf is the language that a file is in; "" when it is none of the notes.
func (n AppNotes) languageOf(file string) string {
	before, behind, _ := strings.Cut(path.Clean(n.Files), languageMark)
	tag, begins := strings.CutPrefix(file, before)
	tag, ends := strings.CutSuffix(tag, behind)
	if !begins || !ends || !IsLanguage(tag) {
		return ""
	}
	return Language(tag)
}

// read reads one file of notes.
func (n AppNotes) read(t versionfile.Tree, file string) Note {
	note := Note{Language: n.languageOf(file), File: file}
	if t.Link != nil && t.Link(file) {
		note.Problem = "it is a link, which is not followed"
		return note
	}
	text, err := t.Read(file)
	if err != nil {
		note.Problem = err.Error()
		return note
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	note.Text, note.Problem = CleanNotes(string(text))
	return note
}

// CleanNotes gives a text as it is kept for notes: with plain line ends, and no other control characters. Or it tells
// why it cannot be.
func CleanNotes(text string) (clean, problem string) {
	switch {
	case len(text) > MaxNotes:
		return "", "it has more than 32 KiB; stores take 4,000 characters at most"
	case !utf8.ValidString(text):
		return "", "it is not UTF-8"
	case strings.ContainsRune(text, 0):
		return "", "it holds a NUL character"
	}
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\t", " ").Replace(text)
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' {
			return -1
		}
		return r
	}, text)), ""
}
