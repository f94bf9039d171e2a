package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/source"
)

var twoPlatforms = map[string]string{
	"app/build.gradle": "android {\n\tdefaultConfig {\n\t\tversionCode 12 // by hand\n\t\tversionName '1.4.0'\n\t}\n}\n",
	"ios/Info.plist": "<plist><dict>\r\n<key>CFBundleVersion</key><string>11</string>\r\n" +
		"<key>CFBundleShortVersionString</key><string>1.4.0</string>\r\n</dict></plist>\r\n",
	"VERSION": "1.4.0\n",
}

func contentOf(t *testing.T, dir, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(text)
}

func TestVersionsAreShownAndRaised(t *testing.T) {
	dir := checkout(t, twoPlatforms, nil)
	t.Chdir(dir)
	out, code := run(t, "versions")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "app/build.gradle:3  build  12     android")
	assert.Contains(t, out, "Next: patch 1.4.1 · minor 1.5.0 · major 2.0.0")

	out, code = run(t, "versions", "raise", "minor", "--dry-run")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "5 places would be written")
	assert.Equal(t, "1.4.0\n", contentOf(t, dir, "VERSION"), "nothing was")

	require.NoError(t, os.Chmod(filepath.Join(dir, "VERSION"), 0o600))
	out, code = run(t, "versions", "raise", "minor")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "- versionName '1.4.0'")
	assert.Contains(t, out, "+ versionName '1.5.0'")
	assert.Equal(t, "1.5.0\n", contentOf(t, dir, "VERSION"))
	assert.Contains(t, contentOf(t, dir, "app/build.gradle"), "\t\tversionCode 13 // by hand\n")
	assert.Contains(t, contentOf(t, dir, "ios/Info.plist"), "<string>13</string>\r\n")
	info, err := os.Stat(filepath.Join(dir, "VERSION"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	names, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, names, 4, "nothing is left behind: .git, VERSION, app, ios")

	out, code = run(t, "versions", "--json")
	assert.Zero(t, code, out)
	var told struct {
		Apps []struct {
			Name   string
			Builds map[string]int
			Agree  bool
			Places []map[string]any
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &told))
	require.Len(t, told.Apps, 1)
	assert.Equal(t, "1.5.0", told.Apps[0].Name)
	assert.Equal(t, map[string]int{"android": 13, "ios": 13}, told.Apps[0].Builds)
	assert.True(t, told.Apps[0].Agree)
	assert.Len(t, told.Apps[0].Places, 5)
}

func TestVersionsThatDifferAreNotRaised(t *testing.T) {
	files := map[string]string{"VERSION": "1.3.0\n", "app/build.gradle": twoPlatforms["app/build.gradle"]}
	dir := checkout(t, files, nil)
	t.Chdir(dir)
	out, code := run(t, "versions")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "VERSION:1 says 1.3.0, and app/build.gradle:4 says 1.4.0")
	out, code = run(t, "versions", "raise", "patch")
	assert.Equal(t, 1, code, out)
	assert.Equal(t, "1.3.0\n", contentOf(t, dir, "VERSION"))
	out, code = run(t, "versions", "raise", "to", "2.0.0")
	assert.Zero(t, code, out)
	out, code = run(t, "versions")
	assert.Zero(t, code, out)
}

func TestVersionsThatCannotBeRaised(t *testing.T) {
	dir := checkout(t, map[string]string{"VERSION": "1.4.0\n"}, nil)
	t.Chdir(dir)
	for _, c := range []struct {
		args []string
		code int
	}{
		{[]string{"huge"}, 2}, {[]string{}, 2}, {[]string{"minor", "rc"}, 2}, {[]string{"tag"}, 2}, {[]string{"to"}, 2},
		{[]string{"pre", "r c"}, 2}, {[]string{"to", "next"}, 1}, {[]string{"minor", "--app", "clock"}, 1},
		{[]string{"pre"}, 1},
	} {
		out, code := run(t, append([]string{"versions", "raise"}, c.args...)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, out)
	}
	assert.Equal(t, "1.4.0\n", contentOf(t, dir, "VERSION"))
	require.NoError(t, os.Remove(filepath.Join(dir, "VERSION")))
	require.NoError(t, os.Symlink("elsewhere", filepath.Join(dir, "VERSION")))
	out, code := run(t, "versions")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "it is a link, which is not followed")
	none := checkout(t, map[string]string{"README": "x"}, nil)
	out, code = run(t, "versions", none)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "No version stands in any file")
	out, code = run(t, "versions", t.TempDir())
	assert.Equal(t, 1, code, out)
	slip := checkout(t, map[string]string{"piston/app.toml": "[app.a]\nandriod = \"x\"\n"}, nil)
	_, code = run(t, "versions", slip)
	assert.Equal(t, 1, code)
}

func TestNotesAreDrafted(t *testing.T) {
	dir := checkout(t, map[string]string{"VERSION": "1.4.0\n"}, nil)
	t.Chdir(dir)
	_, code := run(t, "versions", "notes")
	assert.Equal(t, 1, code, "there is no commit")
	for _, args := range [][]string{{"commit", "-qm", "feat: old"}, {"tag", "v1.4.0"}, {"commit", "-q", "--allow-empty", "-m", "feat: show currents"}} {
		cmd := exec.Command("git", args...)
		cmd.Env = source.Environment(map[string]string{"user.name": "Ada", "user.email": "ada@tidewick.example"})
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	out, code := run(t, "versions", "notes")
	assert.Zero(t, code)
	assert.Equal(t, "- Show currents\n", out)
	out, code = run(t, "versions", "notes", "--json")
	assert.Zero(t, code)
	assert.Contains(t, out, `"characters": 15`)
}

func TestVersionsAskTheLedger(t *testing.T) {
	dir := checkout(t, twoPlatforms, nil)
	t.Chdir(dir)
	answers := map[string]string{"GET /projects/p/ledger": `{"entries":[],"count":420,"lines":[{"app":"app","platform":"android","last":412,"name":"1.6.0"},
		{"app":"app","platform":"ios","last":20,"floor":30},{"app":"other","platform":"ios","last":9000}]}`}
	out, code, _ := againstHere(t, answers, "versions", "--project", "p")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "The ledger gave out last for android: 1.6.0 (412)")
	assert.Contains(t, out, "The ledger gave out last for ios: no name (30)")
	assert.Contains(t, out, "Next: patch 1.6.1 · minor 1.7.0 · major 2.0.0 · android build 421 · ios build 421")
	out, code, _ = againstHere(t, answers, "versions", "raise", "patch", "--project", "p")
	assert.Zero(t, code, out)
	assert.Equal(t, "1.6.1\n", contentOf(t, dir, "VERSION"))
	assert.Contains(t, contentOf(t, dir, "app/build.gradle"), "versionCode 421 ")
	out, code, _ = againstHere(t, map[string]string{}, "versions", "--project", "p")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "the ledger was not asked")
	out, code, asked := againstHere(t, answers, "versions", "--offline", "--project", "p")
	assert.Zero(t, code, out)
	assert.Empty(t, asked)
}

func TestExplainTellsTheNextVersion(t *testing.T) {
	dir := checkout(t, twoPlatforms, map[string]string{})
	t.Chdir(dir)
	require.NoError(t, os.MkdirAll("piston", 0o755))
	require.NoError(t, os.WriteFile("piston/p.toml", []byte("[input.size]\nkind = \"choice\"\nchoices = [\"patch\", \"major\"]\n[[job.a.step]]\nraise = { by = \"${PISTON_INPUT_SIZE}\" }\n"+
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"true\"\n"), 0o600))
	out, err := exec.Command("git", "add", "piston").CombinedOutput()
	require.NoError(t, err, "%s", out)
	answers := map[string]string{"GET /projects/p/ledger": `{"entries":[],"count":40,"lines":[{"app":"app","platform":"ios","last":20,"name":"1.6.0"}]}`}
	told, code, _ := againstHere(t, answers, "explain", "p", "--project", "p")
	assert.Zero(t, code, told)
	assert.Regexp(t, `next\.app +1\.6\.1 \(android 41, ios 41\): patch +job\.a\.step\[0\]\.raise, when size is patch`, told)
	assert.Regexp(t, `next\.app +2\.0\.0 \(android 41, ios 41\): major`, told)
	told, code = run(t, "explain", "p", "--offline", "--job", "a")
	assert.Zero(t, code, told)
	assert.Contains(t, told, "1.4.1 (android 13, ios 13): patch")
	told, _ = run(t, "explain", "p", "--offline", "--job", "b")
	assert.NotContains(t, told, "next.app")
}
