package check

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

// hostile are pipeline files made to exhaust whoever reads them, and the code by which each is refused.
func hostile() map[string]struct{ text, code string } {
	times := strings.Repeat
	var jobs, wrong, globs strings.Builder
	for n := range 20_000 {
		fmt.Fprintf(&jobs, "[[job.j%d.step]]\nscript = \"true\"\n", n)
	}
	for n := range 9_000 {
		fmt.Fprintf(&wrong, "[job.j%d]\nwrong%d = 1\n", n, n)
	}
	for range 15_000 {
		globs.WriteString(`"../x",`)
	}
	return map[string]struct{ text, code string }{
		"substitutions":     {step(times("$(", 20_000)), "bad-script"},
		"long script":       {step(times("$(", 200_000)), "too-many"},
		"subshells":         {step(times("(", 60_000)), "bad-script"},
		"blocks":            {step(times("{ ", 30_000)), "bad-script"},
		"parameters":        {step(times("${a:-", 12_000)), "bad-script"},
		"arithmetic":        {step("echo $((" + times("(", 60_000)), "bad-script"},
		"back quotes":       {step(times("`", 50_000)), "bad-script"},
		"conditions":        {step(times("if ", 20_000)), "bad-script"},
		"closed conditions": {step(times("if true; then ", 3000) + times("fi;", 3000)), "bad-script"},
		"here documents":    {step(times("cat <<a\n", 8_000)), "bad-script"},
		"arrays":            {"a = " + times("[", 500_000), "too-many"},
		"inline tables":     {"a = " + times("{a=", 300_000), "too-many"},
		"dotted keys":       {"a" + times(".a", 500_000) + " = 1", "too-many"},
		"deep header":       {"[a" + times(".a", 500_000) + "]", "too-many"},
		"jobs":              {jobs.String(), "too-many"},
		"wrong members":     {wrong.String(), "too-many"},
		"bad globs":         {step("true") + "[job.a.keep.x]\nfiles = [" + globs.String() + "]\n", "too-many"},
		"braces":            {step("true") + "[job.a.keep.x]\nfiles = [\"" + times("{a,b}", 40) + "\"]\n", "bad-glob"},
		"variants": {"[job.a]\nvariants.over = { A = [" + times(`"a",`, 1) + letters(150) + "] }\n" + times("[[job.a.step]]\nscript = '''"+times("#", 60_000)+"'''\n", 2),
			"too-many"},
		"conditions of CEL": {"[[job.a.step]]\nscript = \"true\"\nwhen = \"" + times("(", 4000) + "\"\n", "bad-condition"},
	}
}

// letters are different values.
func letters(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("%q", fmt.Sprintf("v%d", i))
	}
	return strings.Join(list, ",")
}

func TestWhatExhaustsReadersIsRefused(t *testing.T) {
	for name, h := range hostile() {
		t.Run(name, func(t *testing.T) {
			found := All(app(h.text, nil), nil).Files[0].Findings
			require.NotEmpty(t, found)
			assert.LessOrEqual(t, len(found), definition.MaxFindings+1)
			codes := map[string]bool{}
			for _, f := range found {
				codes[f.Code] = true
				assert.Less(t, len(f.String()), 4096, "a finding can be read")
			}
			assert.True(t, codes[h.code], "%v", codes)
		})
	}
}

func TestAPartThatMultipliesIsRefused(t *testing.T) {
	part := "[[step]]\nscript = '''" + strings.Repeat("#", 60_000) + "'''\n"
	found := All(app(strings.Repeat("[[job.a.step]]\npart = \"long\"\n", 400), map[string]string{"piston/parts/long.toml": part}), nil).Files[0].Findings
	require.Len(t, found, 1)
	assert.Equal(t, "too-many", found[0].Code)
	assert.Equal(t, "piston/p.toml", found[0].File)
}

func TestALargePipelineIsCheckedAsFarAsItGoes(t *testing.T) {
	var script strings.Builder
	for n := range 2_500 {
		fmt.Fprintf(&script, "cat in/%d.txt > o%d\n", n, n)
	}
	result := All(app(strings.Repeat(step("make\n"+script.String()), 16), nil), nil)
	codes := map[string]int{}
	for _, f := range result.Files[0].Findings {
		codes[f.Code]++
	}
	assert.Equal(t, 1, codes["not-checked"], "it says so: %v", codes)
}

func TestARepositoryOfManyPipelines(t *testing.T) {
	files := map[string]string{}
	for n := range MaxFiles + 50 {
		files[fmt.Sprintf("piston/p%03d.toml", n)] = step("true")
	}
	result := All(tree(files), nil)
	assert.Len(t, result.Files, MaxFiles)
	require.Len(t, result.Findings, 1)
	assert.Equal(t, "too-many-files", result.Findings[0].Code)
}

// A repository names one content as often as it likes, and stays small.
func TestOneLargeContentUnderManyNamesIsNotReadWithoutEnd(t *testing.T) {
	const names = 30_000
	large := strings.Repeat("x\n", 50_000)
	files := map[string]string{}
	var steps, script strings.Builder
	for n := range names {
		files[fmt.Sprintf("f/%d", n)] = large
		if fmt.Fprintf(&script, "f/%d\n", n); n%6000 == 5999 {
			steps.WriteString(step(script.String()))
			script.Reset()
		}
	}
	for n := range 2000 {
		files[fmt.Sprintf("g/%d/.gitignore", n)] = "/secret.json\n"
	}
	steps.WriteString(step("true") + "secret_files = { A = \"x/secret.json\" }\n")
	r := app(steps.String(), files)
	read, bytes := r.Read, 0
	r.Read = func(name string) ([]byte, error) {
		text, err := read(name)
		bytes += len(text)
		return text, err
	}
	result := All(r, nil)
	assert.Less(t, bytes, 70<<20)
	assert.Equal(t, "not-checked", result.Findings[len(result.Findings)-1].Code)
}

// Makefiles and scripts that a release calls are looked into as far as there is time, whatever they need of each other.
func TestAMakefileThatGoesOnForEver(t *testing.T) {
	var chain, steps strings.Builder
	for n := range 4_000 {
		fmt.Fprintf(&chain, "a%d: a%d a%d\n\ttrue $(A%d)\nKIND ?= debug\n", n, n+1, n/2, n)
	}
	steps.WriteString("group = \"release\"\n")
	for n := range 60 {
		fmt.Fprintf(&steps, "[[job.a.step]]\nscript = \"make a%d\"\n", n)
	}
	found := All(tree(map[string]string{"piston/p.toml": steps.String(), "Makefile": chain.String() + "a4000:\n\tgradle assembleDebug\n"}), nil).All()
	assert.Equal(t, []int{12002}, placesOf(t, found, "debug-build")[:1], "the end of the chain is looked at")
}
