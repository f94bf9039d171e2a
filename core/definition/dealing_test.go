package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const dealt = "[[job.t.step]]\ndeal = { files = [\"tests/*.c\"], into = \"out/mine\" }\n"

func TestAmongWhomIsDealt(t *testing.T) {
	p, found := Parse("piston/p.toml", []byte("[job.t]\nvariants.over = { PART = [\"1\", \"2\"], ABI = [\"a\", \"b\"] }\n"+
		"[[job.t.step]]\ndeal = { list = \"out/all\", into = \"out/mine\", over = \"PART\" }\n[job.u]\n[[job.u.step]]\nscript = \"x\"\n"), nil)
	require.NotNil(t, p, found)
	var all []*Job
	for _, name := range p.JobNames() {
		all = append(all, p.Job[name])
	}
	job := p.Job["t+a+2"]
	require.NotNil(t, job)
	assert.Equal(t, "PART", job.DealsOver(job.Step[0]))
	var names []string
	for _, other := range job.DealtWith(job.Step[0], all) {
		names = append(names, other.Name)
	}
	assert.Equal(t, []string{"t+a+1", "t+a+2"}, names, "those of the same other values")
	one, found := Parse("piston/p.toml", []byte("[job.t]\nvariants.over = { PART = [\"1\", \"2\"] }\n"+dealt), nil)
	require.NotNil(t, one, found)
	assert.Equal(t, "PART", one.Job["t+1"].DealsOver(one.Job["t+1"].Step[0]))
}

func TestWhatCannotBeDealt(t *testing.T) {
	const over = "[job.t]\nvariants.over = { PART = [\"1\", \"2\"], ABI = [\"a\", \"b\"] }\n"
	for text, says := range map[string]string{
		dealt:        "no variants to deal among",
		over + dealt: "among which of the job's values",
		over + "[[job.t.step]]\ndeal = { files = [\"x\"], into = \"y\", over = \"KIND\" }\n":           "among which of the job's values",
		over + "[[job.t.step]]\ndeal = { files = [\"x\"], into = \"y\", over = \"a b\" }\n":            "no name of a variants' value",
		over + "[[job.t.step]]\ndeal = { into = \"y\" }\n":                                             "nothing is dealt",
		over + "[[job.t.step]]\ndeal = { files = [\"x\"] }\n":                                          "says no file to write",
		over + "[[job.t.step]]\ndeal = { files = [\"x\"], list = \"y\", into = \"z\" }\n":              "one of them",
		over + "[[job.t.step]]\ndeal = { files = [\"../x\"], into = \"z\", over = \"PART\" }\n":        "no glob",
		over + "[[job.t.step]]\ndeal = { list = \"../x\", into = \"z\", over = \"PART\" }\n":           "../x",
		over + "[[job.t.step]]\ndeal = { list = \"x\", into = \"z\", over = \"PART\" }\ndir = \"a\"\n": "dir says nothing beside deal",
	} {
		p, found := Parse("piston/p.toml", []byte(text), nil)
		assert.Nil(t, p, text)
		require.NotEmpty(t, found, text)
		assert.Contains(t, found[0].Message, says, text)
	}
}
