package sandbox

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

func TestWhatAStepNamesIsNothingToTheSandboxItself(t *testing.T) {
	m := &Machine{Config: Config{Isolation: Bubblewrap}, place: t.TempDir()}
	spec := &Spec{Command: []string{"/bin/sh"}, Script: "/dev/null",
		Env: map[string]string{"KEY": "the-secret-value", "LD_PRELOAD": "/tmp/evil.so", "PATH": "/evil"}}
	cmd, err := m.Box(t.TempDir(), nil, definition.Numbers{}).command(spec)
	require.NoError(t, err)
	assert.Equal(t, []string{"PATH=" + os.Getenv("PATH")}, cmd.Env, "bubblewrap runs outside the sandbox: nothing of a step is in its environment")
	assert.NotContains(t, strings.Join(cmd.Args, " "), "the-secret-value", "arguments can be read by everyone on the machine")
	told := make([]byte, 64<<10)
	n, err := cmd.ExtraFiles[len(cmd.ExtraFiles)-1].Read(told)
	require.NoError(t, err)
	assert.Contains(t, string(told[:n]), "--setenv\x00KEY\x00the-secret-value\x00")
	require.NoError(t, spec.CleanUp())
}
