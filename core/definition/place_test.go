package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const placed = `allow = ["debug-build"]
[trigger.push]
branches = ["main"]

[job.a]
env = { MODE = "x" }
[[job.a.step]]
script = '''
mkdir out
tools/build --all
'''
secrets = ["KEY"]
[[job.a.step]]
script = "cd core && make"
when = 'job.size() > 0 && branch != ""'
`

func TestPlacesOfValues(t *testing.T) {
	p := parsed(t, placed, nil)
	j := p.Job["a"]
	at := func(f Finding) [2]int { return [2]int{f.Line, f.Col} }
	place := func(keys ...string) Place { return Place{Job: j, Step: j.Step[0], Keys: keys} }
	assert.Equal(t, [2]int{12, 12}, at(p.Finding("x", Warning, "m", "f", place("secrets", "0"))))
	assert.Equal(t, [2]int{6, 9}, at(p.Finding("x", Warning, "m", "f", Place{Job: j, Keys: []string{"env", "MODE"}})))
	assert.Equal(t, [2]int{3, 13}, at(p.Finding("x", Warning, "m", "f", Place{Keys: []string{"trigger", "push", "branches", "0"}})))
	assert.Equal(t, [2]int{7, 9}, at(p.Finding("x", Warning, "m", "f", place("nothing"))), "what is not written is where it would be")
	assert.Equal(t, 5, p.Line(j))

	f := p.ScriptFinding("x", Warning, "m", "f", place(), 2, "tools/build")
	assert.Equal(t, [2]int{10, 1}, at(f))
	assert.Equal(t, "tools/build --all", f.Excerpt)
	assert.Equal(t, Warning, f.Severity)
	assert.Equal(t, [2]int{14, 21}, at(p.ScriptFinding("x", Error, "m", "f", Place{Job: j, Step: j.Step[1]}, 1, " make")))
	assert.Equal(t, [2]int{8, 1}, at(p.ScriptFinding("x", Error, "m", "f", place(), 1, "not in it")), "else where the script begins")
	assert.True(t, p.Allows("debug-build"))
	assert.False(t, p.Allows("no-file"))
	assert.True(t, p.AsksFor("job"))
	assert.True(t, p.AsksFor("branch"))
	assert.False(t, p.AsksFor("changed"))
}

func TestPlacesInPartsAreTheirOwn(t *testing.T) {
	p := parsed(t, "[[job.a.step]]\npart = \"fetch\"\nwith = { lock = \"a.lock\" }\n", map[string]string{
		"piston/parts/fetch.toml": "[parameter.lock]\n[[step]]\nname = \"get\"\nscript = \"\"\"\ntools/get x\n\"\"\"\ndir = \"deep\"\n"})
	j := p.Job["a"]
	f := p.Finding("x", Error, "m", "", Place{Job: j, Step: j.Step[0], Keys: []string{"dir"}})
	assert.Equal(t, "piston/parts/fetch.toml", f.File)
	assert.Equal(t, 7, f.Line)
	f = p.ScriptFinding("x", Error, "m", "", Place{Job: j, Step: j.Step[0]}, 1, "tools/get")
	assert.Equal(t, [2]int{5, 1}, [2]int{f.Line, f.Col})
	f = p.Finding("x", Error, "m", "", Place{Job: j, Step: j.Step[0], Keys: []string{"env", "lock"}})
	assert.Equal(t, "piston/p.toml", f.File, "a value that is given is where it is given")
	assert.Equal(t, 3, f.Line)
}

func TestTriggersInSentences(t *testing.T) {
	for text, want := range map[string][]string{
		"": {},
		"[trigger.push]\nbranches = [\"main\", \"work/**\"]\nexcept_branches = [\"work/x\"]\npaths = [\"core/**\"]\nexcept_paths = [\"*.md\"]\n": {"a push to main, work/**, not work/x, changing core/**, more than *.md"},
		"[trigger.tag]\n":                              {"a tag of any name"},
		"[trigger.proposal]\ninto = [\"main\"]\n":      {"a proposal into main"},
		"[trigger.schedule.n]\ncron = \"0 3 * * *\"\n": {"n: 0 3 * * *, UTC"},
		"[trigger.pipeline.b]\n[trigger.pipeline.a]\nstates = [\"failed\", \"timed-out\"]\n":     {"a, when it has failed or timed-out", "b, when it has passed"},
		"[trigger.push]\n[trigger.schedule.n]\ncron = \"0 3 * * *\"\nzone = \"Europe/Lisbon\"\n": {"a push to any branch", "n: 0 3 * * *, Europe/Lisbon"},
	} {
		p := parsed(t, text+"[[job.a.step]]\nscript = \"x\"\n", nil)
		assert.Equal(t, want, p.Trigger.Sentences())
	}
}

func TestLongFilesArePlacedRight(t *testing.T) {
	text := ""
	for range 3000 {
		text += "# a line of no meaning, with ünï\r\n"
	}
	_, found := Parse("piston/p.toml", []byte(text+"é = 1\n"), nil)
	require.NotEmpty(t, found)
	assert.Equal(t, 3001, found[len(found)-1].Line)
}
