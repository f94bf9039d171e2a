package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/source"
)

// checkout is a repository with tracked files; what is in loose is not tracked.
func checkout(t *testing.T, tracked, loose map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	git := func(args ...string) {
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Env = dir, source.Environment(nil)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	write := func(files map[string]string) {
		for name, text := range files {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
	}
	git("init", "-q", "-b", "main")
	write(tracked)
	git("add", "-A")
	write(loose)
	return dir
}

// run runs a command and returns what it printed and its exit code.
func run(t *testing.T, args ...string) (string, int) {
	t.Helper()
	t.Setenv("PISTON_CONFIG", filepath.Join(t.TempDir(), "client.json"))
	var b bytes.Buffer
	app := App()
	app.Writer = &b
	err := app.Run(context.Background(), append([]string{"piston"}, args...))
	if err != nil {
		b.WriteString(err.Error())
	}
	return b.String(), terminal.CodeOf(err)
}

const fine = "[[job.a.step]]\nscript = \"true\"\n"

// Whoever looks at what a stranger proposes does so in a terminal.
func TestNothingOfAFilesTextMovesInATerminal(t *testing.T) {
	dir := checkout(t, map[string]string{"piston/a.toml": "x = \"a\x1b]52;c;cm0gLXJm\x07\x1b[2Jb\" # \u009b2J\r\x08\n" + fine}, nil)
	out, code := run(t, "check", dir)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, `x = "ab" #`)
	assert.NotRegexp(t, `[\x00-\x08\x0b-\x1f\x7f\x{80}-\x{9f}]`, out)
}

func TestCheckTellsErrorsFromWarnings(t *testing.T) {
	out, code := run(t, "check", checkout(t, map[string]string{"piston/good.toml": fine}, nil))
	assert.Zero(t, code)
	assert.Contains(t, out, "1 pipeline, nothing found.")
	out, code = run(t, "check", checkout(t, map[string]string{"piston/good.toml": fine, "piston/app.toml": "x = 1\n"}, nil))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "piston/app.toml:1:1: error: unknown key", "app.toml is no pipeline, and is read as what it is")

	warned := checkout(t, map[string]string{"piston/p.toml": fine, "upload.jks": "x"}, nil)
	out, code = run(t, "check", warned)
	assert.Equal(t, exitWarned, code)
	assert.Contains(t, out, "upload.jks: warning: Git tracks upload.jks")
	assert.Contains(t, out, "0 errors, 1 warning in 1 pipeline.")
	_, code = run(t, "check", "--allow-warnings", warned)
	assert.Zero(t, code)

	wrong := checkout(t, map[string]string{"piston/p.toml": "[[job.a.step]]\nscripts = \"true\"\n", "piston/huge.toml": strings.Repeat("#", definition.MaxFileSize+1)}, nil)
	out, code = run(t, "check", wrong)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "piston/p.toml:2:1: error: unknown key \"scripts\" [unknown-key]\n    2 | scripts = \"true\"\n        ^\n        Did you mean \"script\"?")
	assert.Contains(t, out, "more than 1048576 bytes, the most a pipeline file may have")

	for _, dir := range []string{t.TempDir(), checkout(t, map[string]string{"README": "x"}, nil)} {
		out, code = run(t, "check", dir)
		assert.Equal(t, terminal.ExitFailed, code)
		assert.Regexp(t, `no Git repository|there is no file piston`, out)
	}
}

func TestCheckSeesTheTreeAsItIs(t *testing.T) {
	dir := checkout(t, map[string]string{"piston/p.toml": "[[job.a.step]]\nscript = \"cat conf.json; sh gone.sh\"\n", "gone.sh": "x"}, map[string]string{"conf.json": "{}", "piston/new.toml": fine})
	require.NoError(t, os.Remove(filepath.Join(dir, "gone.sh")))
	out, code := run(t, "check", "--json", dir)
	assert.Equal(t, terminal.ExitFailed, code)
	var answer struct {
		Files    []string
		Findings []definition.Finding
		Note     string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &answer))
	assert.Equal(t, []string{"piston/new.toml", "piston/p.toml"}, answer.Files)
	var found []string
	for _, f := range answer.Findings {
		found = append(found, f.File+" "+f.Code)
	}
	assert.ElementsMatch(t, []string{"piston/p.toml not-tracked", "piston/p.toml no-file", "piston/new.toml not-tracked"}, found)
	assert.Contains(t, answer.Note, "not signed in")
}

func TestCheckWritesSARIF(t *testing.T) {
	out, code := run(t, "check", "--sarif", checkout(t, map[string]string{"piston/p.toml": "[[job.a.step]]\nscript = \"tools/none\"\n"}, nil))
	assert.Equal(t, terminal.ExitFailed, code)
	var doc struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	assert.Equal(t, "2.1.0", doc.Version)
	require.Len(t, doc.Runs[0].Results, 1)
	r := doc.Runs[0].Results[0]
	assert.Equal(t, "no-file", r.RuleID)
	assert.Equal(t, "error", r.Level)
	assert.Equal(t, "piston/p.toml", r.Locations[0].PhysicalLocation.ArtifactLocation.URI)
	assert.Equal(t, 2, r.Locations[0].PhysicalLocation.Region.StartLine)
	assert.Equal(t, 11, r.Locations[0].PhysicalLocation.Region.StartColumn)
	assert.Equal(t, "no-file", doc.Runs[0].Tool.Driver.Rules[0].ID)
}

func TestExplainTellsWhereValuesAreFrom(t *testing.T) {
	dir := checkout(t, map[string]string{"piston/p.toml": "limit = \"9m\"\n[job.a]\nvariants.over = { ABI = [\"x\", \"y\"] }\n[[job.a.step]]\npart = \"fetch\"\n",
		"piston/parts/fetch.toml": "[[step]]\nscript = \"true\"\n", "piston/bad.toml": "x = 1\n"}, nil)
	out, code := run(t, "explain", "p", dir)
	assert.Zero(t, code)
	assert.Regexp(t, `job\."a\+x"\.limit +"9m" +piston/p.toml:1, of the pipeline`, out)
	assert.Regexp(t, `job\."a\+y"\.env\.ABI +"y" +piston/p.toml:3, of the variant`, out)
	assert.Regexp(t, `job\."a\+x"\.step\[0\]\.script +"true" +piston/parts/fetch.toml:2`, out)
	out, code = run(t, "explain", "--job", "a+y", "p", dir)
	assert.Zero(t, code)
	assert.NotContains(t, out, "a+x")
	out, code = run(t, "explain", "q", dir)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "there are: bad, p")
	_, code = run(t, "explain", "bad", dir)
	assert.Equal(t, terminal.ExitFailed, code)
}

func TestInputsAreAskedForUntilTheyWillDo(t *testing.T) {
	inputs := []*definition.Input{{Name: "channel", Kind: definition.ChoiceInput, Choices: []string{"beta", "public"}}, {Name: "count", Kind: definition.NumberInput, Required: true}, {Name: "given"}}
	given := map[string]string{"given": "x"}
	var asked bytes.Buffer
	require.NoError(t, askInputs(strings.NewReader("\nmany\n\n3\n"), &asked, inputs, given))
	assert.Equal(t, map[string]string{"given": "x", "channel": "beta", "count": "3"}, given)
	assert.Contains(t, asked.String(), "channel, one of beta, public [beta]: ")
	assert.Equal(t, 3, strings.Count(asked.String(), "count, a number"))
	assert.ErrorContains(t, askInputs(strings.NewReader(""), &asked, inputs, map[string]string{}), "no answer for input channel")
}

func TestPairs(t *testing.T) {
	m, err := pairs("--input", []string{"a=b=c", "d="})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "b=c", "d": ""}, m)
	for _, bad := range []string{"a", "=b", ""} {
		_, err := pairs("--input", []string{bad})
		assert.Error(t, err, bad)
	}
	assert.Equal(t, `'it'\''s'`, terminal.Quoted("it's"))
	assert.Equal(t, "a+b", terminal.Quoted("a+b"))
}

func TestLocalSecrets(t *testing.T) {
	dir := checkout(t, map[string]string{"a": "b"}, map[string]string{"services.json": "{\"key\": \"0123\"}"})
	config, cache := t.TempDir(), t.TempDir()
	t.Chdir(dir)
	local := func(args ...string) (string, int) {
		t.Setenv("XDG_CACHE_HOME", cache)
		return run(t, append(append([]string{"local-secret"}, args...), "--secrets", filepath.Join(config, "s.age"), "--identity", filepath.Join(config, "id.txt"))...)
	}
	out, code := local("set", "SERVICES", "--file", "services.json")
	assert.Zero(t, code, out)
	out, code = local("list")
	assert.Zero(t, code)
	assert.Regexp(t, `SERVICES +file`, out)
	assert.NotContains(t, out, "0123")
	_, code = local("drop", "NOTHING")
	assert.Equal(t, terminal.ExitFailed, code)
	_, code = local("drop", "SERVICES")
	assert.Zero(t, code)
	out, _ = local("list")
	assert.Contains(t, out, "No secrets for trials")
}

func TestACheckFindsSecretsOfThisMachineThatGitTracks(t *testing.T) {
	dir := checkout(t, map[string]string{"piston/trunk.toml": "[[job.a.step]]\nscript = \"true\"\n", "notes.txt": "first\nthe value is kept-on-this-machine\n"}, nil)
	config := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Chdir(dir)
	file := filepath.Join(config, "value")
	require.NoError(t, os.WriteFile(file, []byte("kept-on-this-machine"), 0o600))
	purse := []string{"--secrets", filepath.Join(config, "s.age"), "--identity", filepath.Join(config, "id.txt")}
	out, code := run(t, append([]string{"local-secret", "set", "KEY", "--file", file}, purse...)...)
	require.Zero(t, code, out)
	out, code = run(t, append([]string{"check", "--offline"}, purse...)...)
	assert.Equal(t, exitWarned, code, out)
	assert.Contains(t, out, "notes.txt:2: warning: Git tracks the value of the secret KEY [secret-tracked]")
	assert.NotContains(t, out, "kept-on-this")
}
