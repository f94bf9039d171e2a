package runner

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
)

// testJob is a job with a workspace and secrets.
func testJob(t testing.TB, secrets map[string]string) *job {
	t.Helper()
	r := &Runner{Config: Config{Name: "here", Home: t.TempDir(), Isolation: Bubblewrap}}
	j := r.job(&api.Work{Attempt: 1, Job: &definition.Job{Name: "a"}, SecretKinds: map[string]string{}}, t.TempDir(), nil)
	j.sink = newLogSink(context.Background(), func(context.Context, int64, []byte) error { return nil }, nil)
	j.secrets = api.SealedSecrets{}
	for name, text := range secrets {
		j.secrets[name] = []byte(text)
	}
	require.NoError(t, os.MkdirAll(j.src, 0o755))
	require.NoError(t, j.openSecrets())
	var err error
	j.root, err = os.OpenRoot(j.src)
	require.NoError(t, err)
	t.Cleanup(func() { j.root.Close() })
	return j
}

func TestWhatAStepNamesIsNothingToTheSandboxItself(t *testing.T) {
	j := testJob(t, map[string]string{"KEY": "the-secret-value"})
	spec, err := j.prepareStep(0, &definition.Step{Script: "true", Secrets: []string{"KEY"}, Env: map[string]string{"LD_PRELOAD": "/tmp/evil.so", "PATH": "/evil"}})
	require.NoError(t, err)
	cmd, err := j.command(spec)
	require.NoError(t, err)
	assert.Equal(t, []string{"PATH=" + os.Getenv("PATH")}, cmd.Env, "bubblewrap runs outside the sandbox: nothing of a step is in its environment")
	assert.NotContains(t, strings.Join(cmd.Args, " "), "the-secret-value", "arguments can be read by everyone on the machine")
	told := make([]byte, 64<<10)
	n, err := cmd.ExtraFiles[len(cmd.ExtraFiles)-1].Read(told)
	require.NoError(t, err)
	assert.Contains(t, string(told[:n]), "--setenv\x00KEY\x00the-secret-value\x00")
	require.NoError(t, spec.cleanUp())
}

func TestWhereASecretFileIsNotPut(t *testing.T) {
	j := testJob(t, map[string]string{"KEY": "the-secret-value"})
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(j.src, "away")))
	require.NoError(t, os.Mkdir(filepath.Join(j.src, "real"), 0o755))
	require.NoError(t, os.Symlink("real", filepath.Join(j.src, "inside")))
	require.NoError(t, os.WriteFile(filepath.Join(j.src, "plain"), []byte("was here"), 0o640))
	require.NoError(t, os.Symlink("plain", filepath.Join(j.src, "link")))
	place := func(at string) (*stepSpec, error) {
		s := &stepSpec{env: map[string]string{}}
		return s, j.placeSecrets(s, &definition.Step{SecretFiles: map[string]string{"KEY": at}})
	}
	for at, says := range map[string]string{"away/key": "a symbolic link", "inside/key": "a symbolic link", "link": "a symbolic link", "real": "a folder",
		"plain/key": "a file", "../key": "", "/etc/key": ""} {
		s, err := place(at)
		assert.Error(t, err, at)
		assert.ErrorContains(t, err, says, at)
		require.NoError(t, s.cleanUp())
	}
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)

	s, err := place("plain")
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(j.src, "plain"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, s.cleanUp())
	text, err := os.ReadFile(filepath.Join(j.src, "plain"))
	require.NoError(t, err)
	assert.Equal(t, "was here", string(text))
	info, err = os.Stat(filepath.Join(j.src, "plain"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o640, info.Mode().Perm(), "as it was")
}

func TestDeclaredSecretsAreTakenFromAPlainFileOnly(t *testing.T) {
	j := testJob(t, nil)
	file := filepath.Join(j.build, hideFile)
	var said []string
	say := func(format string, _ ...any) { said = append(said, format) }
	assert.False(t, j.hide.look(say))
	require.NoError(t, os.WriteFile(file, []byte("a-declared-value\nabc\nand-a-half"), 0o600))
	assert.True(t, j.hide.look(say))
	assert.Equal(t, mask.Hidden+" "+mask.Hidden+" abc", j.hide.String("a-declared-value and-a-half abc"))
	require.Len(t, said, 1)
	assert.Contains(t, said[0], "shorter than")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Symlink("/etc/hostname", file))
	assert.False(t, j.hide.look(say), "a link out of the folder is not followed")
	assert.Equal(t, mask.Hidden, j.hide.String("a-declared-value"), "and nothing is forgotten")
}

func TestSecretsAreWipedWhenAJobEnds(t *testing.T) {
	j := testJob(t, map[string]string{"KEY": "the-secret-value"})
	value := j.secrets["KEY"]
	j.wipe()
	assert.Equal(t, make([]byte, 16), value)
	assert.Empty(t, j.secrets)
}

func TestAnArtifactMayHoldWhatItSaysAndNothingElse(t *testing.T) {
	j := testJob(t, map[string]string{"KEY": "the-secret-value", "SERVICES": "{\n  \"api\": \"svc-0815-4711\"\n}\n"})
	require.NoError(t, os.WriteFile(filepath.Join(j.src, "a"), []byte("x the-secret-value {\n  \"api\": \"svc-0815-4711\"\n} y"), 0o644))
	f := artifact.File{Path: "a", Size: 60}
	assert.ErrorContains(t, j.inspect(t.Context(), f, nil), "KEY, SERVICES")
	assert.ErrorContains(t, j.inspect(t.Context(), f, []string{"SERVICES"}), "the secret KEY:")
	assert.NoError(t, j.inspect(t.Context(), f, []string{"SERVICES", "KEY"}))
	require.NoError(t, os.WriteFile(filepath.Join(j.src, "damaged.apk"), []byte("PK\x03\x04 is no archive"), 0o644))
	assert.NoError(t, j.inspect(t.Context(), artifact.File{Path: "damaged.apk", Size: 19}, nil))
}

func TestTheLesserLimitCounts(t *testing.T) {
	job := definition.Numbers{Memory: 5, Processes: 9, Log: 0}
	most := definition.Numbers{Memory: 7, Processes: 3, Log: 8, OpenFiles: 2}
	assert.Equal(t, definition.Numbers{Memory: 5, Processes: 3, Log: 8, OpenFiles: 2}, job.Within(most))
}
