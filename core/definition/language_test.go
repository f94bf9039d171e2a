package definition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// files reads parts from a map.
func files(parts map[string]string) Files {
	return func(name string) ([]byte, error) {
		if text, ok := parts[name]; ok {
			return []byte(text), nil
		}
		return nil, nil
	}
}

func parsed(t *testing.T, text string, parts map[string]string) *Pipeline {
	t.Helper()
	p, found := Parse("piston/p.toml", []byte(text), files(parts))
	require.NotNil(t, p, "%v", found)
	return p
}

// complaint returns the first error-level finding.
func complaint(t *testing.T, text string, parts map[string]string) Finding {
	t.Helper()
	p, found := Parse("piston/p.toml", []byte(text), files(parts))
	require.Nil(t, p)
	require.NotEmpty(t, found)
	return found[0]
}

const matrix = `
[job.native]
[job.native.variants]
over = { ABI = ["arm64-v8a", "x86_64"], KIND = ["debug", "release"] }
except = [{ ABI = "x86_64", KIND = "release" }]
[[job.native.step]]
script = "make $ABI"
secret_files = { SERVICES = "conf/${KIND}.json" }
[job.native.hand.library]
files = ["out/${ABI}/*.so"]
[job.package]
after = ["native"]
take = ["native/library"]
[[job.package.step]]
script = "make package"
`

func TestVariantsAreJobsOfTheirOwn(t *testing.T) {
	p := parsed(t, matrix, nil)
	assert.Equal(t, []string{"native+arm64-v8a+debug", "native+arm64-v8a+release", "native+x86_64+debug", "package"}, p.JobNames())
	one := p.Job["native+arm64-v8a+release"]
	assert.Equal(t, map[string]string{"ABI": "arm64-v8a", "KIND": "release"}, one.Env)
	assert.Equal(t, []string{"out/arm64-v8a/*.so"}, one.Hand["library"].Files)
	assert.Equal(t, "conf/release.json", one.Step[0].SecretFiles["SERVICES"])
	assert.Equal(t, "make $ABI", one.Step[0].Script, "a script is never touched")
	assert.Equal(t, []string{"conf/debug.json"}, []string{p.Job["native+x86_64+debug"].Step[0].SecretFiles["SERVICES"]}, "variants do not share what they replace")
	assert.Len(t, p.Job["package"].After, 3)
	assert.Equal(t, []string{"native+arm64-v8a+debug/library", "native+arm64-v8a+release/library", "native+x86_64+debug/library"}, p.Takes(p.Job["package"]))
}

const stationsPart = `about = "Fetch the stations"
[parameter.FOLDER]
default = "depot"
[parameter.TRIES]
kind = "number"
default = 2
[cache.stations]
paths = ["${FOLDER}"]
follows = ["depot.lock"]
[[step]]
name = "fetch stations"
script = 'tools/fetch-depot depot.lock "$FOLDER"'
secrets = ["DEPOT_KEY"]
`

func TestAPartStandsWhereItIsNamed(t *testing.T) {
	p := parsed(t, `
[[job.core.step]]
script = "one"
[[job.core.step]]
part = "stations"
with = { FOLDER = "stations" }
[[job.core.step]]
name = "last"
script = "three"
dir = "core"
`, map[string]string{"piston/parts/stations.toml": stationsPart})
	job := p.Job["core"]
	require.Len(t, job.Step, 3)
	assert.Equal(t, []string{"one", "fetch stations", "last"}, []string{job.Step[0].Name, job.Step[1].Name, job.Step[2].Name})
	assert.Equal(t, map[string]string{"FOLDER": "stations", "TRIES": "2"}, job.Step[1].Env)
	assert.Equal(t, []string{"stations"}, job.Cache["stations"].Paths)
	assert.Equal(t, "stations", job.Cache["stations"].Name)
	assert.Equal(t, "piston/parts/stations.toml", job.Step[1].File)
	assert.Equal(t, 10, job.Step[1].Line)

	from := map[string]string{}
	for _, v := range p.Explain() {
		from[v.Key] = v.From
	}
	assert.Equal(t, "piston/parts/stations.toml:12", from["job.core.step[1].script"])
	assert.Equal(t, "piston/p.toml:6", from["job.core.step[1].env.FOLDER"])
	assert.Equal(t, "piston/parts/stations.toml:6", from["job.core.step[1].env.TRIES"])
	assert.Equal(t, "piston/p.toml:10", from["job.core.step[2].dir"])
	assert.Equal(t, "piston/parts/stations.toml:8", from["job.core.cache.stations.paths"])
	assert.Equal(t, "default", from["job.core.limit"])
	assert.Equal(t, "default", from["job.core.machine"])
}

func TestWhatGoesWrongInAPartIsSaidThere(t *testing.T) {
	use := "[[job.a.step]]\npart = \"x\"\n"
	f := complaint(t, use, map[string]string{"piston/parts/x.toml": "[[step]]\nscrip = \"a\"\n"})
	assert.Equal(t, "unknown-key", f.Code)
	assert.Equal(t, "piston/parts/x.toml:2:1", fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Col))
	f = complaint(t, use, map[string]string{"piston/parts/x.toml": "[[step]]\nscript = \"a\"\nlimit = \"soon\"\n"})
	assert.Equal(t, "bad-duration", f.Code)
	assert.Equal(t, "piston/parts/x.toml:3", fmt.Sprintf("%s:%d", f.File, f.Line))
	f = complaint(t, use, nil)
	assert.Equal(t, "no-part", f.Code)
	assert.Equal(t, 2, f.Line)
	f = complaint(t, use, map[string]string{"piston/parts/x.toml": "[[step]]\npart = \"x\"\n"})
	assert.Equal(t, "part-cycle", f.Code)
	f = complaint(t, use+"with = { FOLDR = \"a\" }\n", map[string]string{"piston/parts/x.toml": stationsPart})
	assert.Contains(t, f.Fix, `"FOLDER"`)
	f = complaint(t, use+"with = { TRIES = \"many\" }\n", map[string]string{"piston/parts/x.toml": stationsPart})
	assert.Contains(t, f.Message, "no number")
	f = complaint(t, use+"script = \"a\"\n", map[string]string{"piston/parts/x.toml": stationsPart})
	assert.Contains(t, f.Message, "the step has script and part; it can be one of them")
	f = complaint(t, use+"env = { A = \"b\" }\n", map[string]string{"piston/parts/x.toml": stationsPart})
	assert.Contains(t, f.Message, "says nothing beside a part")
}

func TestPartsThatMultiplyAreStopped(t *testing.T) {
	parts := map[string]string{}
	for i := range 8 {
		parts[fmt.Sprintf("piston/parts/p%d.toml", i)] = strings.Repeat(fmt.Sprintf("[[step]]\npart = \"p%d\"\n", i+1), 20)
	}
	parts["piston/parts/p8.toml"] = "[[step]]\nscript = \"a\"\n"
	_, found := Parse("piston/p.toml", []byte("[[job.a.step]]\npart = \"p0\"\n"), files(parts))
	require.NotEmpty(t, found)
	assert.Equal(t, "too-many", found[0].Code)
}

func TestMoreFindings(t *testing.T) {
	step := "[[job.a.step]]\nscript = \"x\"\n"
	cases := []struct {
		name, text, code, want string
		line, col              int
	}{
		{"a product of 10,000", "[job.a.variants.over]\nA = [" + values(100) + "]\nB = [" + values(100) + "]\n" + step, "too-many", "10000 combinations", 1, 17},
		{"a schedule every second", "[trigger.schedule.s]\ncron = \"* * * * * *\"\n" + step, "bad-schedule", "6 fields", 2, 1},
		{"a schedule every minute", "[trigger.schedule.s]\ncron = \"* * * * *\"\n" + step, "bad-schedule", "at most every 5m0s", 2, 1},
		{"an unknown zone", "[trigger.schedule.s]\ncron = \"0 4 * * *\"\nzone = \"Mars\"\n" + step, "bad-zone", "Mars", 3, 1},
		{"a condition that is a text", step + "when = 'branch'\n", "bad-condition", "true or false", 3, 9},
		{"a name a condition does not know", step + "when = 'brunch == \"main\"'\n", "bad-condition", "undeclared", 3, 9},
		{"an input that is not there", step + "when = 'input.chanel == \"b\"'\n[input.channel]\n", "bad-condition", `Did you mean "channel"?`, 3, 15},
		{"a job that is not before", step + "[job.b]\nwhen = 'job.a == \"failed\"'\n[[job.b.step]]\nscript = \"x\"\n", "bad-condition", "add it to after", 4, 13},
		{"a reference to nothing", "[job.a]\ndir = \"out/${ABJ}\"\nvariants.over.ABI = [\"x\"]\n" + step, "unknown-reference", "Did you mean ${ABI}?", 2, 1},
		{"a variant's value with a slash", "[job.a]\nvariants.over.ABI = [\"../x\"]\n" + step, "bad-value", "cannot be a variant's value", 2, 22},
		{"a tool's version", "[job.a]\ntools = { clang = \"newest\" }\n" + step, "bad-version", "newest", 2, 11},
		{"taking from a job that is not before", "[job.b]\ntake = [\"a/lib\"]\n[[job.b.step]]\nscript = \"x\"\n" + step + "[job.a.hand.lib]\nfiles = [\"l\"]\n", "not-before", `Add "a" to after`, 2, 9},
		{"taking what is not handed on", "[job.b]\nafter = [\"a\"]\ntake = [\"a/libs\"]\n[[job.b.step]]\nscript = \"x\"\n" + step + "[job.a.hand.lib]\nfiles = [\"l\"]\n", "unknown-hand", `Did you mean "a/lib"?`, 3, 9},
		{"a retry without a cause", "[job.a]\nretry = { times = 2 }\n" + step, "missing-key", "names no cause", 2, 1},
		{"a retry of no step", "[job.a]\nretry = { times = 2, steps = [\"fech\"] }\n" + step, "unknown-step", "no step", 2, 31},
		{"a pipeline that starts itself", "[trigger.pipeline.p]\n" + step, "pipeline-cycle", "for ever", 1, 19},
		{"an input without a default beside a trigger", "[trigger.push]\n[input.x]\nrequired = true\n" + step, "required-input", "Give it a default", 3, 1},
		{"a choice of nothing", "[input.x]\nkind = \"choice\"\n" + step, "missing-key", "choice of nothing", 1, 8},
		{"a pattern that is none", "[input.x]\npattern = \"[\"\n" + step, "bad-pattern", "regular expression", 2, 1},
		{"a default that is not accepted", "[input.x]\nkind = \"number\"\ndefault = \"many\"\n" + step, "bad-value", "no number", 3, 1},
		{"a word that is none", "supersede = \"all\"\n" + step, "bad-value", `"running"`, 1, 1},
		{"a shell that is none", step + "shell = \"fish\"\n", "bad-value", `"bash"`, 3, 1},
		{"all variants left out", "[job.a]\nvariants = { over = { A = [\"x\"] }, except = [{ A = \"x\" }] }\n" + step, "no-variants", "leaves no variant", 2, 36},
		{"with and no part", step + "with = { A = \"b\" }\n", "bad-value", "names none", 3, 1},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			p, found := Parse("piston/p.toml", []byte(c.text), nil)
			if c.name == "with and no part" {
				p, found = Parse("piston/p.toml", []byte(c.text+"[[job.a.step]]\npart = \"x\"\n"), files(map[string]string{"piston/parts/x.toml": "[[step]]\nscript = \"x\"\n"}))
			}
			assert.Nil(t, p)
			require.NotEmpty(t, found)
			f := found[0]
			assert.Equal(t, c.code, f.Code, "%v", found)
			assert.Contains(t, f.String(), c.want)
			assert.Equal(t, fmt.Sprint(c.line, ":", c.col), fmt.Sprint(f.Line, ":", f.Col), f.String())
		})
	}
}

func values(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("\"v%d\"", i)
	}
	return strings.Join(list, ", ")
}

func TestInputsAreChecked(t *testing.T) {
	p := parsed(t, `
[input.channel]
kind = "choice"
choices = ["beta", "public"]
[input.count]
kind = "number"
default = 3
[input.dry-run]
kind = "flag"
[input.note]
pattern = "[a-z ]*"
[input.ticket]
required = true
[[job.a.step]]
script = "x"
`, nil)
	texts, values, err := AcceptAll(p.Input, map[string]string{"ticket": "T-1", "dry-run": "yes"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"channel": "beta", "count": "3", "dry-run": "true", "note": "", "ticket": "T-1"}, texts)
	assert.Equal(t, map[string]any{"channel": "beta", "count": 3.0, "dry-run": true, "note": "", "ticket": "T-1"}, values)
	assert.Equal(t, "PISTON_INPUT_DRY_RUN", p.Input["dry-run"].Variable())
	for _, bad := range []map[string]string{
		{}, {"ticket": ""}, {"ticket": "x", "channel": "Beta"}, {"ticket": "x", "count": "NaN"}, {"ticket": "x", "note": "B\nC"},
		{"ticket": strings.Repeat("x", 10<<20)}, {"ticket": "a\x00b"}, {"ticket": "\xff"}, {"ticket": "x", "chanel": "beta"},
		{"ticket": "x", "dry-run": "maybe"},
	} {
		_, _, err := AcceptAll(p.Input, bad)
		require.Error(t, err)
		assert.Less(t, len(err.Error()), 400, "a large value is not told back")
	}
}
