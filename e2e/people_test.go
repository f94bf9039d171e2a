package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// as is the service as somebody else sees it, who signs in here.
func (s *server) as(t *testing.T, name string) *server {
	t.Helper()
	other, _ := s.signedIn(t, name)
	return other
}

// signedIn adds somebody, who signs in with the password made for them.
func (s *server) signedIn(t *testing.T, name string) (other *server, password string) {
	t.Helper()
	out, code := s.piston(t, "", "person", "add", name, "--json")
	require.Zero(t, code, out)
	var made api.NewPassword
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	copied := *s
	copied.config = filepath.Join(t.TempDir(), "client.json")
	out, code = copied.piston(t, made.Password+"\n", "sign-in", "http://"+s.listen, "--name", name)
	require.Zero(t, code, out)
	return &copied, made.Password
}

func TestOwnPasswordAndSigningOut(t *testing.T) {
	s := theServer(t)
	ada, password := s.signedIn(t, "ada-out")
	tries := func(want int, says, input string, args ...string) {
		t.Helper()
		out, code := ada.piston(t, input, args...)
		assert.Equal(t, want, code, "%v: %s", args, out)
		assert.Contains(t, out, says, "%v", args)
	}
	tries(3, "name or password is wrong", "not-the-old-one\na-new-password\n", "password")
	tries(3, "length", password+"\nshort\n", "password")
	tries(2, "ended after 1 line of 2", password+"\n", "password")
	tries(0, "The password of ada-out is changed.", password+"\na-new-password\n", "password")
	tries(3, "name or password is wrong", password+"\n", "sign-in", "http://"+s.listen, "--name", "ada-out")
	tries(0, "ada-out", "", "token", "list")
	settings, err := os.ReadFile(ada.config)
	require.NoError(t, err)
	tries(0, "Signed out of http://"+s.listen, "", "sign-out")
	assert.NoFileExists(t, ada.config)
	tries(3, "you are not signed in", "", "projects")
	require.NoError(t, os.WriteFile(ada.config, settings, 0o600))
	tries(3, "sign in first", "", "projects")
	tries(0, "Signed out", "", "sign-out")
	tries(0, "Signed in", "a-new-password\n", "sign-in", "http://"+s.listen, "--name", "ada-out")
}

func TestRolesByCommand(t *testing.T) {
	s := theServer(t)
	r := s.script(t, "roles", "echo fine")
	r.push()
	r.passes(1)
	ada := s.as(t, "ada")
	tries := func(want int, says string, args ...string) {
		t.Helper()
		out, code := ada.piston(t, "long enough", args...)
		assert.Equal(t, want, code, "%v: %s", args, out)
		assert.Contains(t, out, says, "%v", args)
	}
	admins := func(args ...string) {
		t.Helper()
		out, code := s.piston(t, "", args...)
		require.Zero(t, code, "%v: %s", args, out)
	}
	tries(0, "No projects yet", "projects")
	tries(3, "project roles: not found", "runs", "roles")
	admins("role", "give", "reader", "ada", "--project", "roles")
	tries(0, "passed", "runs", "roles")
	tries(3, "needs the role builder", "start", "roles", "trunk")
	admins("group", "set", "makers", "--member", "ada")
	admins("role", "give", "builder", "makers", "--group", "--project", "roles")
	tries(0, "is queued", "start", "roles", "trunk")
	tries(3, "needs the role keeper", "secret", "set", "roles", "KEY")
	tries(3, "only an administrator", "people")
	admins("role", "give", "keeper", "ada")
	tries(0, "is set", "secret", "set", "roles", "KEY", "--tag", "v*", "--note", "a note")
	tries(0, "tag v*", "secret", "list", "roles")
	tries(0, "revision 2", "secret", "set", "roles", "KEY")
	tries(0, "value of revision 1 again", "secret", "restore", "roles", "KEY", "1")
	tries(0, "secret.restore", "audit", "roles", "--act", "secret", "--who", "ada")
	tries(3, "only an administrator", "audit")
	tries(3, "only an administrator may make a runner's token", "token", "add", "--runner", "mine")
	out, code := ada.piston(t, "", "token", "add", "narrow", "--role", "reader", "--project", "roles", "--days", "1")
	require.Zero(t, code, out)
	narrow := *ada
	narrow.config = filepath.Join(t.TempDir(), "none.json")
	t.Setenv("PISTON_SERVER", "http://"+s.listen)
	t.Setenv("PISTON_TOKEN", strings.TrimSpace(out))
	out, code = narrow.piston(t, "", "start", "roles", "trunk")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "needs the role builder", "her token may less than she")
	require.NoError(t, os.Unsetenv("PISTON_SERVER"))
	require.NoError(t, os.Unsetenv("PISTON_TOKEN"))
	admins("person", "keep-out", "ada")
	tries(3, "sign in first", "runs", "roles")
	admins("person", "let-in", "ada")
	tries(0, "passed", "runs", "roles")
	out, code = s.piston(t, "", "person", "demote", "admin")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "no administrator")
}

func TestTheMasterIsRotatedWhileJobsRun(t *testing.T) {
	s := serve(t, "--slots", "2")
	r := s.project(t, "turning", map[string]string{"piston/trunk.toml": "[trigger.push]\n[[job.main.step]]\nsecrets = [\"KEY\"]\nscript = 'test \"$KEY\" = turned-around-value'\n"})
	_, code := s.piston(t, "turned-around-value", "secret", "set", "turning", "KEY")
	require.Zero(t, code)
	before, err := os.ReadFile(filepath.Join(s.home, "secrets.key"))
	require.NoError(t, err)
	r.push()
	for n := int64(1); n <= 3; n++ {
		out, code := s.piston(t, "", "master", "rotate")
		require.Zero(t, code, out)
		assert.Contains(t, out, "records were encrypted anew")
		out, code = s.piston(t, "", "start", "turning", "trunk")
		require.Zero(t, code, out)
	}
	for n := record.RunNumber(1); n <= 4; n++ {
		r.passes(n)
	}
	after, err := os.ReadFile(filepath.Join(s.home, "secrets.key"))
	require.NoError(t, err)
	assert.NotEqual(t, before, after)
	kept, err := filepath.Glob(filepath.Join(s.home, "secrets.key.until-*"))
	require.NoError(t, err)
	assert.NotEmpty(t, kept)

	// With a master of before the service says so and does not start.
	s.stop(t)
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "secrets.key"), before, 0o600))
	out, code := s.piston(t, "", "serve", "--home", s.home, "--listen", s.listen, "--slots", "0")
	assert.NotZero(t, code)
	assert.Contains(t, out, "the master key is not the right one")
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "secrets.key"), after, 0o600))
	s.start(t)
	r.commit("With the right one back", nil)
	r.push()
	r.passes(5)
}
