package definition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// aJob is what the edges are tried in: keys of the file, of the job, and of the step.
func aJob(top, job, step string) string {
	return top + "\n[job.a]\n" + job + "\n[[job.a.step]]\nname = \"s\"\n" + step + "\n"
}

// many writes n things, each by its number.
func many(n int, form string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, form, i)
	}
	return b.String()
}

func TestEachBoundHoldsAtItsEdge(t *testing.T) {
	const step = `script = "true"`
	top := func(text string) string { return aJob(text, "", step) }
	job := func(text string) string { return aJob("", text, step) }
	body := func(text string) string { return aJob("", "", text) }
	keep := func(glob string) string {
		return aJob("", "", step) + "[job.a.keep.x]\nfiles = [\"" + glob + "\"]\n"
	}
	for what, c := range map[string]struct {
		code         string
		within, past []string
	}{
		"priority": {"bad-value", []string{top("priority = -100"), top("priority = 100")},
			[]string{top("priority = -101"), top("priority = 101")}},
		"at once": {"bad-value", []string{top("at_once = 0"), top("at_once = 1000")},
			[]string{top("at_once = -1"), top("at_once = 1001")}},
		"times": {"bad-value", []string{job("retry = { times = 1, steps = [\"s\"] }"), job("retry = { times = 10, steps = [\"s\"] }")},
			[]string{job("retry = { times = 0, steps = [\"s\"] }"), job("retry = { times = 11, steps = [\"s\"] }")}},
		"exit codes": {"bad-value", []string{job("retry = { times = 1, exit_codes = [1, 255] }")},
			[]string{job("retry = { times = 1, exit_codes = [0] }"), job("retry = { times = 1, exit_codes = [256] }")}},
		"span": {"bad-duration", []string{job(`limit = "1ns"`), job(`limit = "168h"`)},
			[]string{job(`limit = "0s"`), job(`limit = "168h0m1s"`), job(`limit = "-1s"`)}},
		"memory": {"bad-value", []string{job(`limits = { memory = "1MB" }`)}, []string{job(`limits = { memory = "999kB" }`)}},
		"disk":   {"bad-value", []string{job(`limits = { disk = "1MB" }`)}, []string{job(`limits = { disk = "999kB" }`)}},
		"log":    {"bad-value", []string{job(`limits = { log = "1kB" }`)}, []string{job(`limits = { log = "0.9kB" }`)}},
		"processes": {"bad-value", []string{job(`limits = { processes = 4 }`), job(`limits = { processes = 1048576 }`)},
			[]string{job(`limits = { processes = 3 }`), job(`limits = { processes = 1048577 }`)}},
		"open files": {"bad-value", []string{job(`limits = { open_files = 16 }`), job(`limits = { open_files = 1048576 }`)},
			[]string{job(`limits = { open_files = 15 }`), job(`limits = { open_files = 1048577 }`)}},
		"script": {"too-many", []string{body(`script = "` + strings.Repeat("x", MaxScript) + `"`)},
			[]string{body(`script = "` + strings.Repeat("x", MaxScript+1) + `"`)}},
		"name": {"bad-name", []string{"[[job.a.step]]\nscript = \"true\"\nname = \"" + strings.Repeat("n", maxNameLen) + "\""},
			[]string{"[[job.a.step]]\nscript = \"true\"\nname = \"" + strings.Repeat("n", maxNameLen+1) + "\""}},
		"steps": {"too-many", []string{many(maxSteps, "[[job.a.step]]\nscript = \"echo %d\"\n")},
			[]string{many(maxSteps+1, "[[job.a.step]]\nscript = \"echo %d\"\n")}},
		"jobs": {"too-many", []string{many(maxJobs, "[[job.j%d.step]]\nscript = \"true\"\n")},
			[]string{many(maxJobs+1, "[[job.j%d.step]]\nscript = \"true\"\n")}},
		"inputs": {"too-many", []string{many(maxInputs, "[input.i%d]\n") + body(step)},
			[]string{many(maxInputs+1, "[input.i%d]\n") + body(step)}},
		"pattern": {"bad-pattern", []string{top("[input.x]\npattern = \"" + strings.Repeat("p", 1000) + "\"")},
			[]string{top("[input.x]\npattern = \"" + strings.Repeat("p", 1001) + "\"")}},
		"variants": {"too-many", []string{job("variants = { over = { N = [" + many(maxVariants, `"v%d",`) + "] } }")},
			[]string{job("variants = { over = { N = [" + many(maxVariants+1, `"v%d",`) + "] } }")}},
		"a glob's bytes":  {"bad-glob", []string{keep(strings.Repeat("g", maxGlob))}, []string{keep(strings.Repeat("g", maxGlob+1))}},
		"a glob's braces": {"bad-glob", []string{keep("{a,b}{a,b}{a,b}")}, []string{keep("{a,b}{a,b}{a,b}{a,b}")}},
		"a glob's choices": {"bad-glob", []string{keep("{" + strings.Repeat("a,", maxGlobChoices) + "b}")},
			[]string{keep("{" + strings.Repeat("a,", maxGlobChoices+1) + "b}")}},
		"a glob's stars": {"bad-glob", []string{keep(strings.Repeat("**/", maxGlobStars) + "x")},
			[]string{keep(strings.Repeat("**/", maxGlobStars+1) + "x")}},
	} {
		for _, text := range c.within {
			_, found := Parse("piston/p.toml", []byte(text), nil)
			assert.False(t, HasErrors(found), "%s: within its bound: %.300v", what, found)
		}
		for _, text := range c.past {
			_, found := Parse("piston/p.toml", []byte(text), nil)
			var codes []string
			for _, f := range found {
				codes = append(codes, f.Code)
			}
			assert.Contains(t, codes, c.code, "%s: past its bound", what)
		}
	}
}

func TestAFileMayHaveSoManyBytes(t *testing.T) {
	text := aJob("", "", `script = "true"`)
	_, found := Parse("piston/p.toml", []byte(text+"#"+strings.Repeat("x", MaxFileSize-len(text)-1)), nil)
	assert.Empty(t, found)
	_, found = Parse("piston/p.toml", []byte(text+"#"+strings.Repeat("x", MaxFileSize-len(text))), nil)
	require.Len(t, found, 1)
	assert.Equal(t, "file-too-large", found[0].Code)
}

func TestWhatANumberMayBe(t *testing.T) {
	n := &Input{Name: "n", Kind: NumberInput}
	for _, text := range []string{"1e300", "-1e300", "0", "-0.5"} {
		_, err := n.Accept(text)
		assert.NoError(t, err, text)
	}
	for _, text := range []string{"1.1e300", "-1.1e300", "NaN", "Inf", "one", ""} {
		_, err := n.Accept(text)
		assert.Error(t, err, text)
	}
	text := &Input{Name: "t"}
	_, err := text.Accept(strings.Repeat("x", MaxInput))
	assert.NoError(t, err)
	_, err = text.Accept(strings.Repeat("x", MaxInput+1))
	assert.Error(t, err)
}

func TestWhatAnInputIsWithoutAValue(t *testing.T) {
	for _, c := range []struct {
		of   Input
		want string
	}{
		{Input{Kind: ChoiceInput, Choices: []string{"one", "other"}}, "one"},
		{Input{Kind: ChoiceInput, Choices: []string{"one"}, Required: true}, ""},
		{Input{Kind: FlagInput}, "false"},
		{Input{Kind: NumberInput}, "0"},
		{Input{Kind: NumberInput, Required: true}, ""},
		{Input{}, ""},
		{Input{Default: "x"}, "x"},
	} {
		assert.Equal(t, c.want, c.of.DefaultText(), "%+v", c.of)
	}
}

func TestTheNearestNameIsMeant(t *testing.T) {
	for _, c := range []struct{ word, want string }{
		{"scirpt", "script"}, {"script", "script"}, {"SCRIPT", "script"}, {"scrip", "script"}, {"zzzz", ""}, {"", ""},
	} {
		assert.Equal(t, c.want, nearest(c.word, []string{"script", "secrets", "shell"}), c.word)
	}
	long := strings.Repeat("a", longestMeant)
	assert.Equal(t, long, nearest(long[1:], []string{long}))
	assert.Empty(t, nearest(long, []string{long + "a"}), "what is longer than any name is not compared")
}
