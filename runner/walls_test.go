package runner

import (
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/runner/sandbox"
)

// testJob is a job with a workspace and secrets.
func testJob(t testing.TB, secrets map[string]string) *job {
	t.Helper()
	r, err := NewTrial(t.Context(), Config{Name: "here", Home: t.TempDir(), Isolation: sandbox.Bubblewrap, Network: sandbox.NetworkHost})
	require.NoError(t, err)
	defer r.Close()
	j := r.job(task{work: &api.Work{Attempt: 1, Job: &definition.Job{Name: "a"}, SecretKinds: map[string]string{}}, folder: t.TempDir()})
	j.secrets = api.SealedSecrets{}
	for name, text := range secrets {
		j.secrets[name] = []byte(text)
	}
	require.NoError(t, j.files.Make())
	require.NoError(t, j.openSecrets())
	t.Cleanup(j.files.Close)
	return j
}

func TestSecretsAreWipedWhenAJobEnds(t *testing.T) {
	j := testJob(t, map[string]string{"KEY": "the-secret-value"})
	value := j.secrets["KEY"]
	j.wipe()
	assert.Equal(t, make([]byte, 16), value)
	assert.Empty(t, j.secrets)
}

func TestAStepLeavesNoDumpOfItsMemory(t *testing.T) {
	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_CORE, &was))
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{Cur: was.Max, Max: was.Max}))
	if was.Max == 0 {
		t.Skip("nothing on this machine may")
	}
	f := execute(t, nil, &definition.Step{Name: "look", Script: `echo "dumps $(ulimit -c)"; ulimit -c 1 2>/dev/null && echo raised || echo stays`})
	assert.Contains(t, f.text(), "dumps 0\nstays\n", "secrets would be in it")
}
