package check

import (
	"fmt"
	"testing"
)

// BenchmarkAll checks a set of 500 lines, as make bench does by the command.
func BenchmarkAll(b *testing.B) {
	files := map[string]string{"Makefile": "test:\n", "tools/fetch": "x", "deps.lock": "x"}
	for n := range 5 {
		text := fmt.Sprintf("about = \"Pipeline %d\"\n[trigger.push]\nbranches = [\"main\"]\n", n)
		for i := range 12 {
			text += fmt.Sprintf("[job.j%d]\ntools = { clang = \">=11\" }\n[[job.j%d.step]]\nname = \"test\"\nscript = \"make test\"\nnetwork = \"none\"\n[[job.j%d.step]]\nscript = \"tools/fetch deps.lock depot\"\n", i, i, i)
		}
		files[fmt.Sprintf("piston/more%d.toml", n)] = text
	}
	r := tree(files)
	for b.Loop() {
		if found := All(r, nil).All(); len(found) > 0 {
			b.Fatal(found)
		}
	}
}
