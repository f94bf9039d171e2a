package definition

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const trunk = `about = "Every push"
limit = "30m"

[trigger.push]
branches = ["main", "work/**"]

[job.core]
[[job.core.step]]
name = "unit tests"
script = "make test"
test_reports = ["out/*.xml"]

[job.android]
after = ["core"]
machine = ["linux"]
env = { MODE = "release" }

[job.android.cache.stations]
paths = ["depot"]
follows = ["depot.lock"]

[[job.android.step]]
script = """
tools/fetch depot
echo done
"""
secrets = ["DEPOT_TOKEN"]
secret_files = { SERVICES = "android/services.json" }

[job.android.keep.app]
files = ["out/*.apk"]
`

func TestParseReadsAPipeline(t *testing.T) {
	p, found := Parse("piston/trunk.toml", []byte(trunk), nil)
	require.Empty(t, found)
	assert.Equal(t, "trunk", p.Name)
	assert.Equal(t, []string{"core", "android"}, p.JobNames())
	android := p.Job["android"]
	assert.Equal(t, Duration("30m"), android.Limit, "a job without a limit has its pipeline's")
	assert.Equal(t, "tools/fetch depot", android.Step[0].Name, "a step without a name is called by its first line")
	assert.Equal(t, 22, android.Step[0].Line)
	assert.Equal(t, []string{DefaultMachine}, p.Job["core"].Machine)
	assert.Equal(t, "stations", android.Cache["stations"].Name)
}

func TestFindingsPointAtTheirPlace(t *testing.T) {
	cases := []struct {
		name, text, code string
		line, col        int
		want             string
	}{
		{"unknown key", "[job.a]\nmashine = [\"linux\"]\n[[job.a.step]]\nscript=\"x\"\n", "unknown-key", 2, 1, `Did you mean "machine"?`},
		{"unknown key in an inline table", "[[job.a.step]]\nscript = \"x\"\n[job.a.keep]\napp = { file = [\"x\"], files = [\"y\"] }\n", "unknown-key", 4, 9, `Did you mean "files"?`},
		{"unknown key in the second step", "[[job.a.step]]\nscript=\"x\"\n[[job.a.step]]\nscript=\"y\"\n  sekrets=[\"A\"]\n", "unknown-key", 5, 3, `Did you mean "secrets"?`},
		{"wrong type", "limit = 30\n[[job.a.step]]\nscript=\"x\"\n", "bad-toml", 1, 9, ""},
		{"not toml", "[job.a\n", "bad-toml", 1, 7, ""},
		{"cycle", "[job.a]\nafter=[\"b\"]\n[[job.a.step]]\nscript=\"x\"\n[job.b]\nafter=[\"a\"]\n[[job.b.step]]\nscript=\"x\"\n", "cycle", 6, 8, "a → b → a"},
		{"a variant that except leaves out", "[job.a]\nvariants.over = { ABI = [\"arm\", \"x86\"] }\nvariants.except = [{ ABI = \"x86\" }]\n[[job.a.step]]\nscript=\"x\"\n[job.b]\nafter=[\"a+x86\"]\n[[job.b.step]]\nscript=\"x\"\n", "unknown-job", 7, 8, "The variants are: a+arm."},
		{"unknown job", "[job.a]\nafter=[\"cor\"]\n[[job.a.step]]\nscript=\"x\"\n[[job.core.step]]\nscript=\"x\"\n", "unknown-job", 2, 8, `Did you mean "core"?`},
		{"no steps", "[job.a]\nmachine=[\"linux\"]\n", "no-steps", 1, 6, "[[job.a.step]]"},
		{"no jobs", "about = \"x\"\n", "no-jobs", 1, 1, ""},
		{"glob leaves the workspace", "[[job.a.step]]\nscript=\"x\"\n[job.a.keep.k]\nfiles=[\"ok\",\"../../etc/passwd\"]\n", "bad-path", 4, 13, "leaves the workspace"},
		{"a cache of all", "[[job.a.step]]\nscript=\"x\"\n[job.a.cache.c]\nfollows=[\"a.lock\"]\npaths=[\"deps\", \"./\"]\n", "bad-path", 5, 16, "the whole workspace"},
		{"outputs alone", "[[job.a.step]]\nscript=\"x\"\noutputs=[\"out/**\"]\n", "missing-key", 3, 1, "has outputs and no inputs"},
		{"inputs and a network", "[[job.a.step]]\nscript=\"x\"\ninputs=[\"a\"]\nnetwork=\"outside\"\n", "bad-value", 4, 1, "has no network"},
		{"inputs of an action", "[[job.a.step]]\nnote={text=\"x\"}\ninputs=[\"a\"]\n", "bad-value", 3, 1, "only a script can be reused"},
		{"an input that is no variable", "[[job.a.step]]\nscript=\"x\"\ninputs=[\"a\", \"$A-B\"]\n", "bad-value", 3, 14, "is no variable"},
		{"an input that leaves", "[[job.a.step]]\nscript=\"x\"\ninputs=[\"../a\"]\n", "bad-path", 3, 9, "leaves the workspace"},
		{"absolute path", "[[job.a.step]]\nscript=\"x\"\ndir=\"/etc\"\n", "bad-path", 3, 1, "root of the machine"},
		{"bad duration", "[[job.a.step]]\nscript=\"x\"\nlimit=\"soon\"\n", "bad-duration", 3, 1, "90s"},
		{"reserved variable", "[job.a.env]\nPISTON_RUN=\"1\"\n[[job.a.step]]\nscript=\"x\"\n", "bad-name", 2, 1, "set by the service"},
		{"empty script", "[[job.a.step]]\nname=\"x\"\n", "missing-key", 1, 9, "no script"},
		{"a key without hosts", "[job.a.submodules]\nkey=\"K\"\n[[job.a.step]]\nscript=\"x\"\n", "missing-key", 1, 8, "both key and hosts"},
		{"a host without its key", "[job.a.submodules]\nkey=\"K\"\nhosts=[\"git.tidewick.example\"]\n[[job.a.step]]\nscript=\"x\"\n", "bad-value", 3, 8, "three words"},
		{"hosts by a pattern", "[job.a.submodules]\nkey=\"K\"\nhosts=[\"*.tidewick.example ssh-ed25519 AAAA\"]\n[[job.a.step]]\nscript=\"x\"\n", "bad-value", 3, 8, "by a pattern"},
		{"a key of another type", "[job.a.submodules]\nkey=\"K\"\nhosts=[\"a.example ssh-rsa AAAAC3NzaC1lZDI1NTE5AAAAIAcICQ==\"]\n[[job.a.step]]\nscript=\"x\"\n", "bad-value", 3, 8, "no key of type ssh-rsa"},
		{"cache that follows nothing", "[[job.a.step]]\nscript=\"x\"\n[job.a.cache.c]\npaths=[\"d\"]\n", "missing-key", 3, 14, "follows nothing"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			p, found := Parse("piston/p.toml", []byte(c.text), nil)
			assert.Nil(t, p)
			var match *Finding
			for i := range found {
				if found[i].Code == c.code {
					match = &found[i]
				}
			}
			require.NotNil(t, match, "findings: %v", found)
			assert.Equal(t, c.line, match.Line, match.String())
			assert.Equal(t, c.col, match.Col, match.String())
			assert.Contains(t, match.String(), c.want)
			assert.Contains(t, match.String(), "^")
		})
	}
}

func TestCaretStandsUnderItsCharacter(t *testing.T) {
	_, found := Parse("piston/p.toml", []byte("[[job.a.step]]\nscript=\"x\"\n\tenv = { \"ÄÖ\" = \"ü\", \"B C\" = \"1\" }\n"), nil)
	require.NotEmpty(t, found)
	for _, f := range found {
		lines := strings.Split(f.String(), "\n")
		caret := []rune(lines[2])
		assert.Equal(t, '^', caret[len(caret)-1])
		assert.Equal(t, '"', []rune(lines[1])[len(caret)-1], "the caret of %s", f)
	}
}

func TestUnreadableFiles(t *testing.T) {
	_, found := Parse("piston/p.toml", make([]byte, 50<<20), nil)
	require.Len(t, found, 1)
	assert.Equal(t, "file-too-large", found[0].Code)
	assert.NotEmpty(t, found[0].Fix)

	_, found = Parse("piston/p.toml", []byte("about = \"ok\"\nname = \"caf\xe9\"\n"), nil)
	require.Len(t, found, 1)
	assert.Equal(t, "not-utf8", found[0].Code)
	assert.Equal(t, 2, found[0].Line)
	assert.Equal(t, 12, found[0].Col)
}

func TestLongLinesAreCutAroundThePlace(t *testing.T) {
	line := "[job.a.env]\n" + `X = "` + strings.Repeat("é", 5000) + "\"\n[[job.a.step]]\nscript=\"x\"\n" +
		"[job.a.keep.k]\nfiles = [\"" + strings.Repeat("y", 4000) + "\", \"/abs\"]\n"
	_, found := Parse("piston/p.toml", []byte(line), nil)
	require.Len(t, found, 1)
	assert.LessOrEqual(t, len([]rune(found[0].Excerpt)), excerptWidth)
	assert.Equal(t, `"/abs"]`, string([]rune(found[0].Excerpt)[found[0].Col-1:]))
}

func TestIsPipelineFile(t *testing.T) {
	assert.True(t, IsPipelineFile("piston/trunk.toml"))
	assert.False(t, IsPipelineFile("piston/app.toml"))
	assert.False(t, IsPipelineFile("piston/parts/android.toml"))
	assert.False(t, IsPipelineFile("trunk.toml"))
}

// FuzzParse holds the promise that any bytes give a pipeline or a placed finding, and never a panic.
func FuzzParse(f *testing.F) {
	f.Add([]byte(trunk))
	seeds, _ := filepath.Glob("testdata/*.toml")
	for _, s := range seeds {
		text, err := os.ReadFile(s)
		require.NoError(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		p, found := Parse("piston/fuzz.toml", text, nil)
		if (p == nil) == !HasErrors(found) {
			t.Fatalf("pipeline %v with findings %v", p != nil, found)
		}
		for _, finding := range found {
			_ = finding.String()
			if finding.Message == "" || finding.Code == "" {
				t.Fatalf("an empty finding: %+v", finding)
			}
		}
		if p != nil && len(p.JobNames()) != len(p.Job) {
			t.Fatalf("%d jobs in order of %d", len(p.JobNames()), len(p.Job))
		}
	})
}

func TestWhatIsBeforeAJobGoesAllTheWayBack(t *testing.T) {
	text := "[[job.a.step]]\nscript=\"x\"\n[job.a.hand.lib]\nfiles=[\"x\"]\n[job.b]\nafter=[\"a\"]\n[[job.b.step]]\nscript=\"x\"\n" +
		"[job.c]\nafter=[\"b\"]\ntake=[\"a/lib\"]\nwhen='job.a == \"passed\"'\n[[job.c.step]]\nscript=\"x\"\n"
	p, found := Parse("piston/p.toml", []byte(text), nil)
	assert.Empty(t, found)
	assert.NotNil(t, p)
	p, found = Parse("piston/p.toml", []byte(strings.Replace(text, "after=[\"b\"]", "", 1)), nil)
	assert.Nil(t, p)
	assert.NotEmpty(t, found, "what is not before a job is not its to take or to ask about")
}
