package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func draft(messages ...string) string {
	var changes []Change
	for _, m := range messages {
		changes = append(changes, ReadChange(m))
	}
	return Draft(changes).String()
}

func TestNotesAreDraftedFromCommits(t *testing.T) {
	assert.Equal(t, "Different from before\n- Heights are in metres\n\nNew\n- Show currents\n- A map of buoys\n\nMended\n- The tide at Gullwick\n\n"+
		"Also\n- Say it better\n- You will not notice\n",
		draft("feat: show currents", "chore: raise dependencies", "fix: phase sign\n\nRelease-Note: the tide at Gullwick", "Say it better",
			"refactor!: heights are in metres", "feat: secret thing\n\nRelease-Note: none", "feat(map): a map of buoys", "",
			"ci: x\n\nRelease-Note: you will not notice"))
	assert.Equal(t, "- One\n- Two\n", draft("one", "two"), "one group needs no heading")
	assert.Empty(t, draft())
	assert.Empty(t, draft("docs: x"))
	assert.Empty(t, draft("Raise the version to 1.4.0 (12)\n\nPiston-Run-Of: tidewick/3\n"), "what a run has landed is no news")
}
