package runner

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

// What a service that is cut off in mid-answer, or lies, sends for a commit is no checkout.
func TestAPackThatIsNotWholeIsNoCheckout(t *testing.T) {
	for name, change := range map[string]func(pack string) string{
		"cut off": func(pack string) string { return pack[:len(pack)/2] },
		"changed": func(pack string) string { return strings.Replace(pack, pack[20:24], "\x00\x01\x02\x03", 1) },
		"no pack": func(string) string { return "<html>the proxy's own page</html>" },
	} {
		f := execute(t, func(_ *api.Work, f *fakeService, _ *Runner) { f.pack = change }, &definition.Step{Name: "never", Script: "echo never"})
		assert.Equal(t, state.Failed, f.finish.State, name)
		assert.Contains(t, f.finish.Reason, "checking out", name)
		assert.NotContains(t, f.text(), "never", name)
	}
}

func TestACheckoutIsARepositoryOfOneCommit(t *testing.T) {
	f := execute(t, nil, &definition.Step{Name: "look", Script: `
git status --porcelain
git rev-list --count HEAD
git remote get-url origin
git fsck --strict 2>&1 | grep -v '^notice' || true
git log -1 --format=%s`})
	assert.Equal(t, state.Passed, f.finish.State, f.finish.Reason)
	assert.Contains(t, f.text(), "\n1\n/srv/p\none\n", "nothing changed, one commit, where it is from")
}
