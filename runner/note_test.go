package runner

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/state"
)

// ended gives the last report of a step.
func (f *fakeService) ended(step int) (last api.StepReport) {
	for _, s := range f.steps {
		if s.Step == step {
			last = s
		}
	}
	return last
}

func TestANoteHoldsWhatAScriptWouldFind(t *testing.T) {
	f := execute(t, nil,
		&definition.Step{Name: "sizes", Script: `mkdir out; printf '| file | size |\n| - | - |\n| apk | 12 |\n' > out/sizes.md`},
		&definition.Step{Name: "note", Note: &action.Note{Text: "Run **${PISTON_RUN}** of ${WHO}, costs $5, ${NOTHING}", File: "out/sizes.md"}},
		&definition.Step{Name: "plain", Note: &action.Note{Text: "only text"}})
	require.Equal(t, state.Passed, f.finish.State, f.finish.Reason)
	assert.Equal(t, "Run **1** of job, costs $5, ${NOTHING}\n\n| file | size |\n| - | - |\n| apk | 12 |", f.ended(1).Note)
	assert.Equal(t, "only text", f.ended(2).Note)
	assert.Nil(t, f.ended(2).ExitCode)
	assert.Zero(t, f.ended(2).LastLine, "it prints nothing")
}

func TestWhatANoteIsNot(t *testing.T) {
	note := func(script, file string) *fakeService {
		return execute(t, nil, &definition.Step{Name: "make", Script: script}, &definition.Step{Name: "note", Note: &action.Note{File: file}})
	}
	for script, says := range map[string]string{
		"true":                       "there is no such file",
		"mkdir n.md":                 "no plain file",
		"mkfifo n.md":                "no plain file",
		"ln -s /etc/hostname n.md":   "escapes",
		"ln -s ../../other/x n.md":   "escapes",
		"ln -s n.md n.md":            "n.md",
		"ln -s .git/../../home n.md": "escapes",
	} {
		f := note(script, "n.md")
		assert.Equal(t, state.Failed, f.finish.State, script)
		assert.Contains(t, f.finish.Reason, says, script)
		assert.Empty(t, f.ended(1).Note, script)
	}
	f := note(`echo other-secret-value > "$PISTON_HIDE"; printf 'a\0b \377 other-secret-value oth\0er-secret-value' > n.md`, "n.md")
	assert.Equal(t, state.Passed, f.finish.State, f.finish.Reason)
	assert.Equal(t, "ab \ufffd "+mask.Hidden+" "+mask.Hidden, f.ended(1).Note, "no NUL, only UTF-8, and what was declared is hidden")
	f = note("head -c 3000000 /dev/zero | tr '\\0' x > n.md", "n.md")
	assert.Equal(t, state.Passed, f.finish.State, f.finish.Reason)
	assert.Less(t, len(f.ended(1).Note), action.MaxNote+10)
	assert.Contains(t, f.text(), "longer than 64 KiB")
}
