package sandbox

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestStepPathHoldsOnlyWhatStepsSee(t *testing.T) {
	t.Setenv("PATH", "/root/bin:/usr/local/go/bin:/home/ada/go/bin:/opt/tool/bin:/usr/bin")
	path := StepPath(Bubblewrap)
	assert.Contains(t, path, "/usr/local/go/bin")
	assert.Contains(t, path, "/opt/tool/bin")
	assert.NotContains(t, path, "/root")
	assert.NotContains(t, path, "/home")
}
