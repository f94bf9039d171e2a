package hook

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const key = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"

var line = strings.Repeat("0", 40) + " " + strings.Repeat("a", 40) + " refs/heads/work/ä b'c\n"

func TestInstallLeavesOtherHooksAlone(t *testing.T) {
	repo := t.TempDir()
	s := Settings{Address: "http://127.0.0.1:1/x", Key: key}
	require.NoError(t, Install(repo, "/opt/it's here/piston", s))
	require.NoError(t, Install(repo, "/usr/bin/piston", s), "its own hook is replaced")
	info, err := os.Stat(filepath.Join(repo, settingsFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "the file with the key")
	require.NoError(t, os.WriteFile(filepath.Join(repo, "hooks", "post-receive"), []byte("#!/bin/sh\nmail team\n"), 0o755))
	err = Install(repo, "/usr/bin/piston", s)
	assert.ErrorIs(t, err, ErrOtherHook)
	assert.ErrorContains(t, err, "hook-report")
}

func TestAPushThatCannotBeToldWaitsForTheNext(t *testing.T) {
	repo := t.TempDir()
	var told bytes.Buffer
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: "http://127.0.0.1:1/x", Key: key}))
	require.NoError(t, Report(t.Context(), repo, strings.NewReader(line), &told), "a push is not refused because the service is away")
	assert.Contains(t, told.String(), "will be built as soon as the service is back")
	waiting, err := List(repo)
	require.NoError(t, err)
	require.Len(t, waiting, 1)

	var ids []string
	verify, err := standardwebhooks.NewWebhook(key)
	require.NoError(t, err)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		_, _ = body.ReadFrom(r.Body)
		assert.NoError(t, verify.Verify(body.Bytes(), r.Header))
		assert.Contains(t, body.String(), "refs/heads/work/ä b'c")
		ids = append(ids, r.Header.Get("webhook-id"))
		w.WriteHeader(http.StatusAccepted)
	}))
	defer server.Close()
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: server.URL, Key: key}))
	require.NoError(t, Report(t.Context(), repo, strings.NewReader(line), &told))
	require.Len(t, ids, 2)
	assert.Equal(t, waiting[0].Delivery, ids[0], "the one that waited goes first, under its own id")
	waiting, err = List(repo)
	require.NoError(t, err)
	assert.Empty(t, waiting)
}

func TestReportRefusesOtherInput(t *testing.T) {
	assert.ErrorContains(t, Report(t.Context(), t.TempDir(), strings.NewReader("hello\n"), &bytes.Buffer{}), "no line of a post-receive hook")
}

func TestManyRefsGoInReportsThatAreTaken(t *testing.T) {
	repo := t.TempDir()
	var sizes []int
	deliveries := map[string]bool{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			Data struct{ Updates []any }
		}
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&body))
		sizes = append(sizes, len(body.Data.Updates))
		deliveries[r.Header.Get(standardwebhooks.HeaderWebhookID)] = true
		w.WriteHeader(http.StatusAccepted)
	}))
	defer server.Close()
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: server.URL, Key: key}))
	var told bytes.Buffer
	require.NoError(t, Report(t.Context(), repo, strings.NewReader(strings.Repeat(line, 2*maxUpdates+1)), &told))
	assert.Equal(t, []int{maxUpdates, maxUpdates, 1}, sizes)
	assert.Len(t, deliveries, 3, "each is a delivery of its own")
	assert.Equal(t, 3, strings.Count(told.String(), "this push is recorded"))
}

func TestWhoPushesIsToldWhatCameOfIt(t *testing.T) {
	repo := t.TempDir()
	answer := `{"id":1,"planned":true,"runs":[{"number":7,"pipeline":"trunk","state":"queued","page":"https://b.example/t/7"},` +
		`{"number":8,"pipeline":"odd","state":"failed","reason":"no\u001b]52;c;YQ==\u0007\n job","page":"https://b.example/t/8"}]}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "3000", r.URL.Query().Get("wait_ms"))
		w.WriteHeader(http.StatusAccepted)
		_, _ = w.Write([]byte(answer))
	}))
	defer server.Close()
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: server.URL, Key: key}))
	push := func() string {
		var told bytes.Buffer
		require.NoError(t, Report(t.Context(), repo, strings.NewReader(line), &told))
		return told.String()
	}
	said := push()
	assert.Contains(t, said, "run 7 of trunk: https://b.example/t/7\n")
	assert.Contains(t, said, red+"failed: no job"+plain)
	answer = `{"id":2,"planned":true,"runs":[]}`
	assert.Contains(t, push(), "no pipeline starts on this push")
	answer = `{"id":2,"note":"the repository is away"}`
	assert.Contains(t, push(), "cannot be planned yet: the repository is away")
	answer = `what an older service says`
	assert.Contains(t, push(), "is recorded")
}

func TestAnotherAccountsPushIsReported(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can be several accounts")
	}
	const uid = 65534 // nobody
	top, err := os.MkdirTemp("/tmp", "piston-hook-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	repo := filepath.Join(top, "r.git")
	require.NoError(t, os.Mkdir(repo, 0o750))
	require.NoError(t, os.Chown(repo, uid, uid))
	program := filepath.Join(top, "piston")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\ncat \"$3/"+settingsFile+"\" > /dev/null && touch \"$3/"+missedFolder+"/x\"\n"), 0o755))
	s := Settings{Address: "http://127.0.0.1:1/x", Key: key}
	require.NoError(t, Install(repo, program, s), "who owns the repository reads the settings and lays reports")
	info, err := os.Stat(filepath.Join(repo, settingsFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else does")

	hidden := filepath.Join(top, "private")
	require.NoError(t, os.Mkdir(hidden, 0o700))
	require.NoError(t, os.Rename(program, filepath.Join(hidden, "piston")))
	err = Install(repo, filepath.Join(hidden, "piston"), s)
	assert.ErrorIs(t, err, ErrCannotRun)
	assert.ErrorContains(t, err, "/usr/local/bin")
}

func TestWhatIsNotBuiltIsSaidInRed(t *testing.T) {
	var told bytes.Buffer
	assert.ErrorIs(t, Report(t.Context(), t.TempDir(), strings.NewReader(line), &told), ErrTold)
	assert.Contains(t, told.String(), red+"THIS PUSH IS NOT BUILT")
}
