package workspace

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/disk"
)

// made is a workspace that hides secrets.
func made(t testing.TB, secrets map[string]string) *Workspace {
	t.Helper()
	w := New(t.TempDir(), nil)
	require.NoError(t, w.Make())
	var values []mask.Value
	for name, text := range secrets {
		values = append(values, mask.Value{Name: name, Text: []byte(text)})
	}
	require.NoError(t, w.Hide(values))
	t.Cleanup(w.Close)
	return w
}

func TestWhereASecretFileIsNotPut(t *testing.T) {
	w := made(t, nil)
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(w.Source(), "away")))
	require.NoError(t, os.Mkdir(filepath.Join(w.Source(), "real"), 0o755))
	require.NoError(t, os.Symlink("real", filepath.Join(w.Source(), "inside")))
	require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "plain"), []byte("was here"), 0o640))
	require.NoError(t, os.Symlink("plain", filepath.Join(w.Source(), "link")))
	for at, says := range map[string]string{"away/key": "a symbolic link", "inside/key": "a symbolic link", "link": "a symbolic link", "real": "a folder",
		"plain/key": "a file", "../key": "", "/etc/key": ""} {
		undo, err := w.Place(at, []byte("the-secret-value"))
		assert.Error(t, err, at)
		assert.ErrorContains(t, err, says, at)
		require.NoError(t, undo())
	}
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)

	undo, err := w.Place("plain", []byte("the-secret-value"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(w.Source(), "plain"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, undo())
	text, err := os.ReadFile(filepath.Join(w.Source(), "plain"))
	require.NoError(t, err)
	assert.Equal(t, "was here", string(text))
	info, err = os.Stat(filepath.Join(w.Source(), "plain"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o640, info.Mode().Perm(), "as it was")
}

func TestDeclaredSecretsAreTakenFromAPlainFileOnly(t *testing.T) {
	w := made(t, nil)
	file := filepath.Join(w.Build(), HideFile)
	var said []string
	say := func(format string, _ ...any) { said = append(said, format) }
	assert.False(t, w.Hiding.Look(say))
	assert.True(t, w.Hiding.nothing())
	require.NoError(t, os.WriteFile(file, []byte("a-declared-value\nabc\nand-a-half"), 0o600))
	assert.True(t, w.Hiding.Look(say))
	assert.Equal(t, mask.Hidden+" "+mask.Hidden+" abc", w.Hiding.String("a-declared-value and-a-half abc"))
	require.Len(t, said, 1)
	assert.Contains(t, said[0], "shorter than")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Symlink("/etc/hostname", file))
	assert.False(t, w.Hiding.Look(say), "a link out of the folder is not followed")
	assert.Equal(t, mask.Hidden, w.Hiding.String("a-declared-value"), "and nothing is forgotten")
	assert.False(t, w.Hiding.nothing())
	w.Close()
	assert.Equal(t, "a-declared-value", w.Hiding.String("a-declared-value"), "but when the job is over")
}

func TestAnArtifactMayHoldWhatItSaysAndNothingElse(t *testing.T) {
	w := made(t, map[string]string{"KEY": "the-secret-value", "SERVICES": "{\n  \"api\": \"svc-0815-4711\"\n}\n"})
	require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "a"), []byte("x the-secret-value {\n  \"api\": \"svc-0815-4711\"\n} y"), 0o644))
	f := artifact.File{Path: "a", Size: 60}
	assert.ErrorContains(t, w.Inspect(t.Context(), f, nil), "KEY, SERVICES")
	assert.ErrorContains(t, w.Inspect(t.Context(), f, []string{"SERVICES"}), "the secret KEY:")
	assert.NoError(t, w.Inspect(t.Context(), f, []string{"SERVICES", "KEY"}))
	require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "damaged.apk"), []byte("PK\x03\x04 is no archive"), 0o644))
	assert.NoError(t, w.Inspect(t.Context(), artifact.File{Path: "damaged.apk", Size: 19}, nil))
}

func TestOfSeveralWorkspacesTheLargestIsFound(t *testing.T) {
	var u Uses
	one, two := New("1", nil), New("2", nil)
	assert.True(t, u.of(one, 10))
	assert.False(t, u.of(two, 5))
	assert.True(t, u.of(two, 11))
	assert.False(t, u.of(one, 10), "another has grown past it")
	u.forget(two)
	assert.True(t, u.of(one, 10))
}

func TestTheWatchOverADiskEnds(t *testing.T) {
	w := made(t, nil)
	u := &Uses{Space: func(string) (disk.Space, error) { return disk.Space{Free: 1 << 40, Total: 1 << 41}, nil }}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "large"), make([]byte, 100_000), 0o644))
	said := ""
	w.WatchDisk(ctx, u, 50_000, func(why string) { said = why })
	require.NoError(t, ctx.Err(), "it ends by itself")
	assert.Contains(t, said, "and 50.0 kB are allowed")
	assert.Empty(t, u.bytes, "and is counted no more")
}

func TestAReportThatIsCutCountsAsFarAsItGoes(t *testing.T) {
	w := made(t, nil)
	whole := `<testsuite name="tide"><testcase name="high"/><testcase name="low"><failure message="no"/></testcase>`
	for name, text := range map[string]string{"whole.xml": whole + "</testsuite>", "cut.xml": whole + `<testcase name="ne`,
		"entities.xml": `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><testsuite><testcase name="&b;"/></testsuite>`,
		"none.xml":     "<html></html>"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.Source(), name), []byte(text), 0o600))
	}
	read := func(name string) (Tests, []string) {
		var said []string
		tests := w.TestReports([]string{name}, ".", func(format string, args ...any) {
			said = append(said, fmt.Sprintf(format, args...))
		})
		return tests, said
	}
	got, said := read("whole.xml")
	assert.Len(t, got.Cases, 2)
	assert.False(t, got.Cut)
	assert.Empty(t, said)
	got, said = read("cut.xml")
	assert.Len(t, got.Cases, 2, "what stands before the cut")
	assert.True(t, got.Cut)
	assert.Contains(t, said[0], "the 2 cases before that count")
	require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "turned.xml"),
		[]byte("<testsuite><testcase classname=\"tide\u202e\" name=\"low \u2066water\"/></testsuite>"), 0o600))
	got, _ = read("turned.xml")
	assert.Equal(t, "tide low water", got.Cases[0].Suite+" "+got.Cases[0].Name, "nothing turns a list around")
	for _, name := range []string{"entities.xml", "none.xml"} {
		got, said = read(name)
		assert.Empty(t, got.Cases, name)
		assert.True(t, got.Cut, name)
		assert.Contains(t, said[0], "cannot be read", name)
		assert.NotEmpty(t, got.None, name)
	}
}
