package definition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a pipeline's file may say and must not, each where it stands.
func TestWhatIsRefusedAndWhere(t *testing.T) {
	job := func(lines string) string { return "[job.a]\n" + lines + "\n[[job.a.step]]\nscript = \"true\"\n" }
	step := func(lines string) string { return "[[job.a.step]]\nscript = \"true\"\n" + lines + "\n" }
	top := func(lines string) string { return lines + "\n" + step("") }
	parts := map[string]string{"piston/parts/empty.toml": "about = \"x\"\n",
		"piston/parts/fine.toml": "[parameter.size]\n[[step]]\nscript = \"true\"\n"}
	for text, wanted := range map[string]string{
		top("[version]\nfile = \"\""):                                                   "2 bad-path",
		top("[version]\nfile = \"/etc/x\""):                                             "2 bad-path",
		top("[version]\nfile = \"../x\""):                                               "2 bad-path",
		top("[version]\nfile = \".git/x\""):                                             "2 bad-path",
		top("[version]\nfile = \"a\\u0000b\""):                                          "2 bad-path",
		top("group = \"no group\""):                                                     "1 bad-name",
		top("supersede = \"some\""):                                                     "1 bad-value",
		top("[trigger.schedule.n]"):                                                     "1 missing-key",
		top("[trigger.schedule.n]\ncron = \"0 3 * * *\"\nbranch = \"a*\""):              "3 bad-value",
		top("[trigger.schedule.n]\ncron = \"61 3 * * *\""):                              "2 bad-schedule",
		top("[trigger.schedule.n]\ncron = \"0 3 * * *\"\nzone = \"Mars\""):              "3 bad-zone",
		top("[trigger.pipeline.b]\nstates = [\"passed\", \"late\"]"):                    "2 bad-value",
		top("[trigger.pipeline.b]\nbranches = [\"[\"]"):                                 "2 bad-glob",
		top("[trigger.push]\npaths = [\"[\"]"):                                          "2 bad-glob",
		top("[trigger.push]\nbranches = [\"[\"]"):                                       "2 bad-glob",
		top("[trigger.push]\nexcept_branches = [\"[\"]"):                                "2 bad-glob",
		top("[trigger.push]\nexcept_paths = [\"[\"]"):                                   "2 bad-glob",
		top("[trigger.proposal]\ninto = [\"[\"]"):                                       "2 bad-glob",
		top("[trigger.proposal]\npaths = [\"[\"]"):                                      "2 bad-glob",
		top("[trigger.proposal]\nexcept_paths = [\"[\"]"):                               "2 bad-glob",
		top("[trigger.tag]\nnames = [\"{\"]"):                                           "2 bad-glob",
		top("[input.x]\nchoices = [\"a\"]"):                                             "2 bad-value",
		top("[input.x]\nkind = \"choice\""):                                             "1 missing-key",
		top("[input.x]\nkind = \"colour\""):                                             "2 bad-value",
		top("[input.x]\ndefault = [1]"):                                                 "2 bad-value",
		top("[input.x]\nkind = \"number\"\ndefault = \"much\""):                         "3 bad-value",
		top("[input.x]\npattern = \"(\""):                                               "2 bad-pattern",
		job("machine = [\"Linux\"]"):                                                    "2 bad-label",
		job("tools = { Clang = \"*\" }"):                                                "2 bad-name",
		job("tools = { clang = \"newest\" }"):                                           "2 bad-version",
		job("env = { A = \"x\\u0000y\" }"):                                              "2 bad-value",
		job("env = { 1A = \"x\" }"):                                                     "2 bad-name",
		job("env = { PISTON_RUN = \"1\" }"):                                             "2 bad-name",
		job("env = { A = \"1\" }\nshell = \"fish\""):                                    "3 bad-value",
		job("history = \"some\""):                                                       "2 bad-value",
		job("dir = \"../x\""):                                                           "2 bad-path",
		job("after = [\"b\"]"):                                                          "2 unknown-job",
		job("after = [\"a\"]"):                                                          "2 cycle",
		job("take = [\"library\"]"):                                                     "2 bad-value",
		job("take = [\"b/library\"]"):                                                   "2 unknown-job",
		job("when = \"branch = 'main'\""):                                               "2 bad-condition",
		job("when = \"input.size == 'x'\""):                                             "2 bad-condition",
		job("when = \"job.b == 'passed'\""):                                             "2 bad-condition",
		job("variants = { over = {} }"):                                                 "2 missing-key",
		job("variants = { over = { A = [] } }"):                                         "2 missing-key",
		job("variants = { over = { A = [\"x\", \"y\", \"x\"] } }"):                      "2 bad-value",
		job("variants = { over = { A = [\"x\"] }, except = [{ A = \"z\" }] }"):          "2 bad-value",
		job("variants = { over = { A = [\"x\"] }, except = [{ B = \"z\" }] }"):          "2 bad-value",
		job("[job.a.cache.c]\nfollows = [\"x\"]"):                                       "2 missing-key",
		job("[job.a.cache.c]\npaths = [\"x\"]"):                                         "2 missing-key",
		job("[job.a.hand.h]\nfiles = []"):                                               "2 missing-key",
		job("[job.a.keep.\"no name\"]\nfiles = [\"x\"]"):                                "2 bad-name",
		job("retry = { times = 1 }"):                                                    "2 missing-key",
		job("retry = { times = 1, steps = [\"none\"] }"):                                "2 unknown-step",
		"[job.\"no name\"]\n[[job.\"no name\".step]]\nscript = \"true\"\n":              "1 bad-name",
		"[job.a]\nabout = \"x\"\n":                                                      "1 no-steps",
		"about = \"x\"\n":                                                               "1 no-jobs",
		step("tests_optional = true"):                                                   "3 bad-value",
		step("secrets = [\"no name\"]"):                                                 "3 bad-name",
		step("secrets = [\"KEY\", \"KEY\"]"):                                            "3 bad-value",
		step("secrets = [\"SET:a\", \"SET\"]"):                                          "3 bad-value",
		step("secret_files = { A = \"x\", B = \"x\" }"):                                 "3 bad-value",
		step("secret_files = { A = \".git/config\" }"):                                  "3 bad-path",
		step("secret_files = { A = \"../x\" }"):                                         "3 bad-path",
		step("test_reports = [\"[\"]"):                                                  "3 bad-glob",
		step("network = \"some\""):                                                      "3 bad-value",
		step("note = { text = \"x\" }"):                                                 "3 bad-value",
		"[[job.a.step]]\nname = \"x\"\n":                                                "1 missing-key",
		"[[job.a.step]]\nscript = \"a\\u0000b\"\n":                                      "2 bad-value",
		"[[job.a.step]]\npart = \"no name\"\n":                                          "2 bad-name",
		"[[job.a.step]]\npart = \"none\"\n":                                             "2 no-part",
		"[[job.a.step]]\npart = \"fine\"\nenv = { A = \"x\" }\n":                        "3 bad-value",
		"[[job.a.step]]\npart = \"fine\"\nwith = { colour = \"x\" }\n":                  "3 unknown-key",
		"[[job.a.step]]\nnote = {}\n":                                                   "2 missing-key",
		"[[job.a.step]]\nnote = { text = \"a\\u0000\" }\n":                              "2 bad-value",
		"[[job.a.step]]\nnote = { text = \"" + strings.Repeat("x", 64<<10+1) + "\" }\n": "2 too-many",
		"[[job.a.step]]\nnote = { file = \"../x\" }\n":                                  "2 bad-path",
		"[[job.a.step]]\nnote = { file = \"x\" }\ndir = \"y\"\n":                        "3 bad-value",
		"[job.a\n": "1 bad-toml",
	} {
		_, found := Parse("piston/p.toml", []byte(text), files(parts))
		var got []string
		for _, f := range found {
			got = append(got, fmt.Sprintf("%d %s", f.Line, f.Code))
			assert.NotEmpty(t, f.Message)
			assert.NotEmpty(t, f.Fix, "%s: %s", f.Code, f.Message)
		}
		assert.Contains(t, got, wanted, "%.300s", text)
	}
	_, found := Parse("piston/parts.x.toml", []byte(step("")), nil)
	require.NotEmpty(t, found, "the file's name is the pipeline's")
	assert.Equal(t, "bad-name", found[0].Code)
}

func TestMistakesInAPart(t *testing.T) {
	use := "[[job.a.step]]\npart = \"x\"\n"
	for text, wanted := range map[string]string{
		"about = \"x\"\n":                                             "no-steps",
		"[[step]]\nscrpt = \"x\"\n":                                   "unknown-key",
		"[[step]]\nscript = \"x\"\ndir = \"/x\"\n":                    "bad-path",
		"[keep.k]\nfiles = [\"../${A}\"]\n[[step]]\nscript = \"x\"\n": "bad-path",
	} {
		_, found := Parse("piston/p.toml", []byte(use), files(map[string]string{"piston/parts/x.toml": text}))
		require.NotEmpty(t, found, text)
		assert.Equal(t, wanted, found[0].Code, text)
		assert.Equal(t, "piston/parts/x.toml", found[0].File, text)
	}
	_, found := Parse("piston/p.toml", []byte(use), func(string) ([]byte, error) { return nil, fmt.Errorf("a broken disk") })
	require.NotEmpty(t, found)
	assert.Contains(t, found[0].Message, "cannot be read: a broken disk")
}

func TestAFindingInOneLine(t *testing.T) {
	f := Finding{File: "piston/p.toml", Code: "bad-value", Severity: Error, Message: "no"}
	for _, c := range []struct {
		line, col int
		wanted    string
	}{{0, 0, "piston/p.toml: error: no [bad-value]"}, {0, 3, "piston/p.toml: error: no [bad-value]"},
		{1, 0, "piston/p.toml:1: error: no [bad-value]"}, {1, 1, "piston/p.toml:1:1: error: no [bad-value]"}} {
		f.Line, f.Col = c.line, c.col
		assert.Equal(t, c.wanted, f.String())
	}
}
