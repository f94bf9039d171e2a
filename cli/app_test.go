package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/cli/terminal"
)

// call runs a command line against a service that answers every request with the same.
func call(t *testing.T, status int, answer any, args ...string) (string, error) {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(s.Close)
	t.Chdir(t.TempDir()) // no work tree, of which commands would take the project
	t.Setenv("PISTON_CONFIG", filepath.Join(t.TempDir(), "client.json"))
	t.Setenv("PISTON_SERVER", s.URL)
	t.Setenv("PISTON_TOKEN", "t")
	app := App()
	var out bytes.Buffer
	app.Writer, app.ErrWriter = &out, &out
	err := app.Run(t.Context(), append([]string{"piston"}, args...))
	return out.String(), err
}

func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		status int
		args   []string
		want   int
	}{
		{200, []string{"projects"}, 0},
		{404, []string{"show", "gone", "1"}, terminal.ExitRefuse},
		{500, []string{"projects"}, terminal.ExitRefuse},
		{200, []string{"show"}, terminal.ExitUsage},
		{200, []string{"show", "p", "1", "2"}, terminal.ExitUsage},
		{200, []string{"show", "p", "minus one"}, terminal.ExitUsage},
		{200, []string{"stop", "p", "0"}, terminal.ExitUsage},
		{200, []string{"projects", "--nonsense"}, terminal.ExitUsage},
		{200, []string{"token", "revoke", "x"}, terminal.ExitUsage},
		{200, []string{"secret", "set", "p", "NAME", "value"}, terminal.ExitUsage},
		{200, []string{"check", "/nowhere"}, terminal.ExitFailed},
	} {
		_, err := call(t, c.status, []string{}, c.args...)
		assert.Equal(t, c.want, terminal.CodeOf(err), "%v: %v", c.args, err)
	}
}

func TestEmptyListsSayWhatToDo(t *testing.T) {
	out, err := call(t, 200, []string{}, "projects")
	require.NoError(t, err)
	assert.Contains(t, out, "piston project add")
	out, err = call(t, 200, []string{}, "secret", "list", "p")
	require.NoError(t, err)
	assert.Contains(t, out, "piston secret set p NAME")
	out, err = call(t, 200, []string{}, "projects", "--json")
	require.NoError(t, err)
	assert.Equal(t, "[]\n", out)
}
