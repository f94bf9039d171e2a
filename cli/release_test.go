package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	ledgerOfTwo = `{"entries":[{"app":"almanac","name":"1.5.0","platform":"ios"},{"app":"almanac","name":"1.5.0","platform":"android"},
		{"app":"almanac","name":"1.5.0-rc.1","platform":"ios"}],"lines":[]}`
	notesOfTwo = `{"app":"almanac","name":"1.5.0","limits":[{"platform":"android","characters":500},{"platform":"ios","characters":4000}],
		"languages":[{"language":"da","text":"Seks havne","characters":10,"from":"file","file":"notes/da.txt","revision":1},
		{"language":"en","text":"Six harbours","characters":501,"too_long":["android"],"from":"person","by":"ada","at":"2026-11-26T10:00:00Z","revision":3}]}`
	notesAddress = "/projects/p/releases/almanac/1.5.0/notes"
)

func theirs() map[string]string {
	return map[string]string{"GET /projects/p/ledger": ledgerOfTwo, "GET " + notesAddress: notesOfTwo,
		"PUT " + notesAddress + "/en": "", "PUT " + notesAddress + "/nb": "", "DELETE " + notesAddress + "/en": ""}
}

func TestNotesOfAReleaseAreShown(t *testing.T) {
	out, code, _ := against(t, theirs(), "release", "notes", "p", "1.5.0")
	assert.Equal(t, 1, code, "one is too long")
	assert.Contains(t, out, "da  from notes/da.txt")
	assert.Contains(t, out, "en  corrected by ada")
	assert.Contains(t, out, "501 of 500 for android: too long, 501 of 4000 for ios")
	out, code, _ = against(t, theirs(), "release", "notes", "p", "1.5.0", "da")
	assert.Zero(t, code)
	assert.Equal(t, "Seks havne\n", out)
	out, code, _ = against(t, theirs(), "release", "notes", "p", "1.5.0", "da", "--json")
	assert.Zero(t, code)
	assert.Contains(t, out, `"file": "notes/da.txt"`)
	_, code, _ = against(t, theirs(), "release", "notes", "p", "1.5.0", "nb")
	assert.Equal(t, 1, code)
	two := theirs()
	two["GET /projects/p/ledger"] = strings.Replace(ledgerOfTwo, `"almanac"`, `"charts"`, 1)
	out, code, _ = against(t, two, "release", "notes", "p", "1.5.0")
	assert.Equal(t, 2, code, out)
}

func TestNotesOfAReleaseAreCorrected(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "notes.txt")
	require.NoError(t, os.WriteFile(file, []byte("Six\r\nharbours\n"), 0o600))
	_, _, asked := against(t, theirs(), "release", "notes", "p", "1.5.0", "en", "--file", file)
	assert.Contains(t, asked, "PUT "+notesAddress+`/en? {"text":"Six\nharbours","revision":3}`)

	editor := filepath.Join(dir, "editor")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\nprintf '%s, and more' \"$(cat \"$2\")\" > \"$2\"\n"), 0o755))
	t.Setenv("VISUAL", editor+" --wait")
	_, _, asked = against(t, theirs(), "release", "notes", "p", "1.5.0", "en", "--edit", "--app", "almanac")
	assert.Contains(t, asked, "PUT "+notesAddress+`/en? {"text":"Six harbours, and more","revision":3}`)
	_, _, asked = against(t, theirs(), "release", "notes", "p", "1.5.0", "nb", "--edit")
	assert.Contains(t, asked, "PUT "+notesAddress+`/nb? {"text":", and more","revision":0}`)

	// What was written by hand is not lost when it cannot be sent.
	refused := theirs()
	delete(refused, "PUT "+notesAddress+"/en")
	t.Setenv("TMPDIR", dir)
	_, code, _ := against(t, refused, "release", "notes", "p", "1.5.0", "en", "--edit")
	assert.NotZero(t, code)
	left, err := filepath.Glob(filepath.Join(dir, "piston-notes-*.txt"))
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "Six harbours, and more", contentOf(t, dir, filepath.Base(left[0])))
	t.Setenv("VISUAL", "false")
	_, code, asked = against(t, theirs(), "release", "notes", "p", "1.5.0", "en", "--edit")
	assert.Equal(t, 1, code)
	assert.NotContains(t, strings.Join(asked, "\n"), "PUT", "an editor that fails changes nothing")

	out, code, asked := against(t, theirs(), "release", "notes", "p", "1.5.0", "en", "--draft")
	assert.Zero(t, code, out)
	assert.Contains(t, asked, "DELETE "+notesAddress+"/en?revision=3")
	for _, args := range [][]string{{"--file", file, "--edit", "en"}, {"--file", file}, {"--draft"}} {
		_, code, _ = against(t, theirs(), append([]string{"release", "notes", "p", "1.5.0"}, args...)...)
		assert.Equal(t, 2, code, args)
	}
	require.NoError(t, os.WriteFile(file, []byte("\xff"), 0o600))
	_, code, _ = against(t, theirs(), "release", "notes", "p", "1.5.0", "en", "--file", file)
	assert.Equal(t, 1, code)
}
