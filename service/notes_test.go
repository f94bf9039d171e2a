package service

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

// releasing commits a change, and gives the attempt of a run that may raise it.
func releasing(t *testing.T, s *Service, r repository, message string, files map[string]string) record.AttemptID {
	t.Helper()
	r.commit(files)
	r.git("commit", "--quiet", "--amend", "--message", message)
	_, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p"})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	return w.Attempt
}

// drafted waits until the draft of a release's notes, which is put off, says something.
func drafted(t *testing.T, s *Service, name, says string) {
	t.Helper()
	require.Eventually(t, func() bool {
		n := notesOf(t, s, name)["en"]
		return strings.Contains(n.Text+n.Draft, says)
	}, 30*time.Second, 20*time.Millisecond)
}

func notesOf(t *testing.T, s *Service, name string) map[string]api.ReleaseNote {
	t.Helper()
	n, err := s.Versions.Notes(asItself(t), "app", api.ReleasePath{App: "app", Name: name})
	require.NoError(t, err)
	all := map[string]api.ReleaseNote{}
	for _, l := range n.Languages {
		all[l.Language] = l
	}
	return all
}

func TestNotesAreDraftedCorrectedAndKept(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	at := api.ReleasePath{App: "app", Name: "1.4.1"}
	first := releasing(t, s, r, "feat: tides of six harbours", map[string]string{
		"piston/p.toml":   raisingByHand,
		"piston/app.toml": "[app.app]\nnotes = { files = \"notes/{language}.txt\" }\n",
		"notes/da.txt":    "\xef\xbb\xbfTidevand\r\nfor seks havne\x1b[31m\r\n", "notes/de.txt": "bad \xff", "notes/README.md": "no notes",
		"notes/fr.txt": strings.Repeat("é", 501)})
	_, err := s.Versions.Raise(ctx, first, wish("patch"))
	require.NoError(t, err)
	drafted(t, s, "1.4.1", "Tides of six")
	notes := notesOf(t, s, "1.4.1")
	require.Len(t, notes, 4)
	assert.Equal(t, api.ReleaseNote{Language: "en", Text: "New\n- Tides of six harbours\n\nAlso\n- Change", Characters: 42, From: "commits",
		Main: true, Revision: 1}, notes["en"])
	assert.Equal(t, "Tidevand\nfor seks havne[31m", notes["da"].Text, "line ends are plain, and nothing commands a terminal")
	assert.Equal(t, "file", notes["da"].From)
	assert.Equal(t, "it is not UTF-8", notes["de"].Problem)
	assert.Equal(t, []string{"android"}, notes["fr"].TooLong)

	// Two people at the same moment: one is told of the other.
	var both sync.WaitGroup
	answers := make([]error, 2)
	for i := range answers {
		both.Go(func() {
			answers[i] = s.Versions.CorrectNotes(ctx, "app", "ada", at, "en", api.NotesCorrection{Text: "Six harbours.", Revision: 1})
		})
	}
	both.Wait()
	lost := answers[0]
	if lost == nil {
		lost = answers[1]
	} else {
		assert.NoError(t, answers[1])
	}
	assert.ErrorIs(t, lost, ground.ErrExists)
	assert.ErrorContains(t, lost, "somebody has changed the notes of app 1.4.1 in en meanwhile")
	require.NoError(t, s.Versions.CorrectNotes(ctx, "app", "ada", at, "pt-BR", api.NotesCorrection{Text: "Seis portos."}))
	assert.ErrorIs(t, s.Versions.CorrectNotes(ctx, "app", "ada", at, "PT-br", api.NotesCorrection{Text: "x"}), ground.ErrExists)

	// The run fails, and another is given the same name: what people wrote stays, drafts are new.
	require.NoError(t, s.Work.FinishAttempt(ctx, first, api.Finish{State: state.Failed, At: time.Now().UnixMilli()}))
	second := releasing(t, s, r, "fix: the phase's sign", map[string]string{"notes/da.txt": "Otte havne\n", "x": "1"})
	out, err := s.Versions.Raise(ctx, second, wish("patch"))
	require.NoError(t, err)
	require.Equal(t, "1.4.1", out.Name)
	drafted(t, s, "1.4.1", "The phase's sign")
	notes = notesOf(t, s, "1.4.1")
	assert.Equal(t, "Six harbours.", notes["en"].Text)
	assert.Equal(t, "ada", notes["en"].By)
	assert.Contains(t, notes["en"].Draft, "The phase's sign")
	assert.Equal(t, "Otte havne", notes["da"].Text)
	assert.Equal(t, "Seis portos.", notes["pt-BR"].Text)

	require.NoError(t, s.Versions.TakeBackNotes(ctx, "app", at, "en", notes["en"].Revision))
	require.NoError(t, s.Versions.TakeBackNotes(ctx, "app", at, "pt-BR", 1))
	assert.ErrorIs(t, s.Versions.TakeBackNotes(ctx, "app", at, "xx", 1), ground.ErrNotFound)
	notes = notesOf(t, s, "1.4.1")
	assert.Equal(t, "commits", notes["en"].From)
	assert.NotContains(t, notes, "pt-BR", "it had no draft")

	// The next release is told from there on, though nobody has set a tag.
	require.NoError(t, s.Work.FinishAttempt(ctx, second, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	third := releasing(t, s, r, "feat: heights in feet", map[string]string{"x": "2"})
	out, err = s.Versions.Raise(ctx, third, wish("minor"))
	require.NoError(t, err)
	drafted(t, s, out.Name, "Heights in feet")
	assert.Equal(t, "- Heights in feet", notesOf(t, s, out.Name)["en"].Text)
}

func TestCorrectionsThatCannotBe(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	a := releasing(t, s, r, "x", map[string]string{"piston/p.toml": raisingByHand, "piston/app.toml": "[app.charts]\n[app.almanac]\n"})
	_, err := s.Versions.Raise(ctx, a, wish("patch")) // of an app that the repository does not have
	require.NoError(t, err, "that notes cannot be drafted stops no release")
	at := api.ReleasePath{App: "app", Name: "1.4.1"}
	assert.Empty(t, notesOf(t, s, "1.4.1"))
	for _, bad := range []struct {
		app, name, language, text string
		revision                  int
		is                        error
	}{
		{"app", "1.4.1", "e n", "x", 0, ground.ErrInvalid}, {"app", "1.4.1", "en", "\xff", 0, ground.ErrInvalid},
		{"app", "1.4.1", "en", "a\x00b", 0, ground.ErrInvalid}, {"app", "1.4.1", "en", strings.Repeat("x", 33<<10), 0, ground.ErrInvalid},
		{"app", "none", "en", "x", 0, ground.ErrInvalid}, {"app", "9.9.9", "en", "x", 0, ground.ErrNotFound},
		{"other", "1.4.1", "en", "x", 0, ground.ErrNotFound}, {"app", "1.4.1", "en", "x", 7, ground.ErrNotFound},
	} {
		err := s.Versions.CorrectNotes(ctx, "app", "ada", api.ReleasePath{App: bad.app, Name: bad.name}, bad.language,
			api.NotesCorrection{Text: bad.text, Revision: bad.revision})
		assert.ErrorIs(t, err, bad.is, "%+v", bad)
	}
	require.NoError(t, s.Versions.CorrectNotes(ctx, "app", "ada", at, "en", api.NotesCorrection{Text: "Written by hand."}))
	assert.Equal(t, "person", notesOf(t, s, "1.4.1")["en"].From)
}

func TestAProfileInASecretIsReadWhenItIsSet(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": raisingByHand})
	ctx := asItself(t)
	set := func(text string) {
		_, err := s.Secrets.SetSecret(ctx, "app", "ada", "PROFILE", api.NewSecret{Kind: api.FileSecret, Value: []byte(text)})
		require.NoError(t, err)
	}
	is := func() string {
		known, err := s.Intake.Knowledge(ctx, "app")
		require.NoError(t, err)
		require.Len(t, known.Secrets, 1)
		return known.Secrets[0].Profile.App
	}
	set("x<?xml?><plist><key>application-identifier</key><string>T0.org.tidewick.almanac</string></plist>")
	assert.Equal(t, "org.tidewick.almanac", is())
	set("another value")
	assert.Empty(t, is())
	_, err := s.Secrets.RestoreSecret(ctx, "app", "ada", "PROFILE", 1)
	require.NoError(t, err)
	assert.Equal(t, "org.tidewick.almanac", is(), "a value that is put back says what it said")
}
