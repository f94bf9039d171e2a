package cli

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/talk"
)

// looking runs a command against a service in which one workspace stays, or as many as stays tells. A shell there says
// what it was asked for and what was typed, and ends as told.
func looking(t *testing.T, stays string, end talk.Ending, typed string, args ...string) (out string, code int, asked []string) {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		if path == "/stays" {
			_, _ = io.WriteString(w, stays)
			return
		}
		asked = append(asked, path+"?"+r.URL.Query().Encode())
		conn, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer conn.CloseNow()
		conn.SetReadLimit(talk.MaxData + 1)
		for r.URL.Query().Get("kind") == "shell" {
			_, message, err := conn.Read(r.Context())
			if err != nil {
				return
			}
			kind, body, _ := talk.Read(message)
			if kind == talk.Data {
				_ = conn.Write(r.Context(), websocket.MessageBinary, talk.Of(talk.Data, body))
			}
			if kind == talk.End {
				break
			}
		}
		_ = conn.Write(r.Context(), websocket.MessageBinary, talk.OfEnding(end))
		_, _, _ = conn.Read(r.Context())
	}))
	t.Cleanup(server.Close)
	in := filepath.Join(t.TempDir(), "typed")
	require.NoError(t, os.WriteFile(in, []byte(typed), 0o600))
	f, err := os.Open(in)
	require.NoError(t, err)
	defer f.Close()
	was := os.Stdin
	os.Stdin = f
	defer func() { os.Stdin = was }()
	t.Chdir(t.TempDir())
	t.Setenv("PISTON_SERVER", server.URL)
	t.Setenv("PISTON_TOKEN", "token")
	out, code = run(t, args...)
	return out, code, asked
}

func TestAShellInAPipe(t *testing.T) {
	three, zero := 3, 0
	out, code, asked := looking(t, aStay, talk.Ending{Code: &three}, "make\n", "shell", "p", "12")
	assert.Equal(t, 3, code, "what it ended with: %s", out)
	assert.Contains(t, out, "make\n")
	require.Len(t, asked, 1)
	assert.Contains(t, asked[0], "/projects/p/runs/12/jobs/core/shell?")
	assert.Contains(t, asked[0], "terminal=false")

	out, code, asked = looking(t, aStay, talk.Ending{Code: &zero}, "typed", "shell", "p", "12", "-c", "ls -l", "--secret", "KEY", "--json")
	assert.Zero(t, code, out)
	var said visited
	require.NoError(t, json.Unmarshal([]byte(out), &said), out)
	assert.Equal(t, visited{Job: "core", Output: "typed", Code: &zero}, said)
	assert.Contains(t, asked[0], "command=ls+-l")
	assert.Contains(t, asked[0], "secret=KEY")

	out, code, _ = looking(t, aStay, talk.Ending{Why: "its time is over"}, "", "shell", "p", "12")
	assert.Equal(t, terminal.ExitRefuse, code)
	assert.Contains(t, out, "its time is over")
}

func TestWhichWorkspaceIsMeant(t *testing.T) {
	out, code, asked := looking(t, "[]", talk.Ending{}, "", "shell", "p", "12")
	assert.Equal(t, terminal.ExitRefuse, code)
	assert.Contains(t, out, "no workspace of run 12 stays")
	assert.Empty(t, asked)
	two := strings.TrimSuffix(aStay, "]") + "," + strings.TrimPrefix(strings.ReplaceAll(aStay, `"core"`, `"android"`), "[")
	out, code, asked = looking(t, two, talk.Ending{}, "", "shell", "p", "12")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, out, "android")
	assert.Empty(t, asked)
	_, _, asked = looking(t, two, talk.Ending{}, "", "shell", "p", "12", "--job", "android")
	require.Len(t, asked, 1)
	assert.Contains(t, asked[0], "/jobs/android/shell?")
}

func TestWhatIsTakenOutIsSaidToBeMissing(t *testing.T) {
	out, code, asked := looking(t, aStay, talk.Ending{Why: "it holds the secret KEY"}, "", "get", "p", "12", "out", "--workspace", "--to", "got")
	assert.Equal(t, terminal.ExitRefuse, code)
	assert.Contains(t, out, "holds the secret KEY")
	assert.Contains(t, asked[0], "kind=files")
	assert.Contains(t, asked[0], "path=out")
}
