package definition

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

func TestNotesComeFromFilesAndCommits(t *testing.T) {
	files := map[string]string{"store/de-AT/new.txt": "Sechs Häfen", "store/da/new.txt": "Seks havne\r\n", "store/da/old.txt": "x",
		"store/none here/new.txt": "x", "store/sv/new.txt": "", "notes.txt": "x", "store/en/new.txt": "x", "store/EN/new.txt": "y"}
	tree := versionfile.Tree{Paths: sortedKeys(files), Read: func(name string) ([]byte, error) {
		if name == "store/sv/new.txt" {
			return nil, errors.New("it is away")
		}
		return []byte(files[name]), nil
	}, Link: func(name string) bool { return name == "store/de-AT/new.txt" }}
	apps, found := ParseApps([]byte("[app.a.notes]\nfiles = \"store/{language}/new.txt\"\nlanguage = \"DA\"\n[app.b.notes]\nlanguage = \"pt-BR\"\n"))
	require.Empty(t, found)
	changes := []version.Change{{About: "six harbours"}}
	assert.Equal(t, []Note{
		{Language: "da", Text: "Seks havne", File: "store/da/new.txt", Main: true},
		{Language: "de-AT", File: "store/de-AT/new.txt", Problem: "it is a link, which is not followed"},
		{Language: "en", File: "store/EN/new.txt", Problem: "store/en/new.txt is of the same language"},
		{Language: "sv", File: "store/sv/new.txt", Problem: "it is away"},
	}, apps.App["a"].ReleaseNotes(tree, changes), "the language of the commits has a file: no draft")
	assert.Equal(t, []Note{{Language: "pt-BR", Text: "- Six harbours", Main: true}}, apps.App["b"].ReleaseNotes(tree, changes))
	many := (&App{}).ReleaseNotes(tree, slices.Repeat([]version.Change{{About: "a change with a long name"}}, 5000))[0].Text
	assert.LessOrEqual(t, len(many), MaxNotes)
	assert.True(t, strings.HasSuffix(many, "\n- A change with a long name"), "whole lines")
	assert.Equal(t, []Note{{Language: "en", Main: true}}, (&App{}).ReleaseNotes(tree, nil))
}

func TestTagsOfLanguages(t *testing.T) {
	for typed, is := range map[string]string{"EN": "en", "pt-br": "pt-BR", "ZH-hant-tw": "zh-Hant-TW", "es-419": "es-419", "de-1996": "de-1996"} {
		assert.True(t, IsLanguage(typed), typed)
		assert.Equal(t, is, Language(typed))
	}
}

func TestNotesThatAreDescribedWrongly(t *testing.T) {
	for text, want := range map[string]string{
		"files = \"notes.txt\"":                 "does not say where the language stands",
		"files = \"{language}/{language}.txt\"": "does not say where the language stands",
		"files = \"../{language}.txt\"":         "../{language}.txt",
		"language = \"english!\"":               "no language has this tag",
	} {
		_, found := ParseApps([]byte("[app.a.notes]\n" + text + "\n"))
		require.NotEmpty(t, found, text)
		assert.Contains(t, found[0].Message, want, text)
		assert.Equal(t, 2, found[0].Line, text)
	}
}
