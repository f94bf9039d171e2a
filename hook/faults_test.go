package hook

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

var here = Settings{Address: "http://127.0.0.1:1/x", Key: key}

func TestInstallSaysWhateverIsInItsWay(t *testing.T) {
	for _, name := range []string{"hooks", missedFolder} { // a file where a folder should be
		repo := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(repo, name), nil, 0o600))
		assert.Error(t, Install(repo, "/usr/bin/piston", here), name)
	}
	for _, name := range []string{settingsFile, "hooks/post-receive"} { // a folder where a file should be
		repo := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(repo, name, "x"), 0o700))
		assert.Error(t, Install(repo, "/usr/bin/piston", here), name)
	}
}

func TestPushesOneAfterTheOtherWhileTheServiceIsAway(t *testing.T) {
	repo := t.TempDir()
	require.NoError(t, Install(repo, "/usr/bin/piston", here))
	report := func(ref string) {
		t.Helper()
		var told bytes.Buffer
		text := strings.Repeat("0", 40) + " " + strings.Repeat("a", 40) + " refs/heads/" + ref + "\n"
		require.NoError(t, Report(t.Context(), repo, strings.NewReader(text), &told))
		require.NotContains(t, told.String(), "NOT BUILT")
	}
	for n := range 3 {
		report(fmt.Sprint("b", n))
		waiting, err := List(repo)
		require.NoError(t, err)
		require.Len(t, waiting, n+1, "each waits for itself")
	}
	var came []string
	taking := false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		_, _ = body.ReadFrom(r.Body)
		for n := range 4 {
			if strings.Contains(body.String(), fmt.Sprintf(`refs/heads/b%d"`, n)) && (taking || n == 1) {
				came = append(came, fmt.Sprint("b", n))
				w.WriteHeader(http.StatusAccepted)
				return
			}
		}
		w.WriteHeader(http.StatusServiceUnavailable)
	}))
	defer server.Close()
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: server.URL, Key: key}))
	report("b3")
	assert.Equal(t, []string{"b1"}, came)
	waiting, err := List(repo)
	require.NoError(t, err)
	assert.Len(t, waiting, 3, "what is not taken goes on waiting, whatever comes of the rest")
	came, taking = nil, true
	report("b2")
	assert.Equal(t, []string{"b0", "b2", "b3", "b2"}, came)
}

func TestWhatCannotBeReadOfTheWaitingOnesStopsNoPush(t *testing.T) {
	repo := t.TempDir()
	var came int
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came++
		w.WriteHeader(http.StatusAccepted)
	}))
	defer server.Close()
	require.NoError(t, Install(repo, "/usr/bin/piston", Settings{Address: server.URL, Key: key}))
	require.NoError(t, os.Remove(filepath.Join(repo, missedFolder)))
	require.NoError(t, os.WriteFile(filepath.Join(repo, missedFolder), nil, 0o600))
	_, err := List(repo)
	assert.ErrorIs(t, err, ErrUnreadable)
	require.NoError(t, Report(t.Context(), repo, strings.NewReader(line), &bytes.Buffer{}))
	assert.Equal(t, 1, came)
}

func TestAPushThatCanBeNeitherToldNorKept(t *testing.T) {
	repo := t.TempDir()
	require.NoError(t, Install(repo, "/usr/bin/piston", here))
	require.NoError(t, os.Remove(filepath.Join(repo, missedFolder)))
	require.NoError(t, os.WriteFile(filepath.Join(repo, missedFolder), nil, 0o600))
	assert.Error(t, Try(repo), "which is seen when the hook is installed")
	var told bytes.Buffer
	assert.ErrorIs(t, Report(t.Context(), repo, strings.NewReader(line), &told), ErrTold)
	assert.Contains(t, told.String(), "NOT BUILT")
	assert.Contains(t, told.String(), "cannot be kept")
}

func TestTryLeavesNothing(t *testing.T) {
	repo := t.TempDir()
	assert.Error(t, Try(repo), "without settings")
	require.NoError(t, Install(repo, "/usr/bin/piston", here))
	require.NoError(t, Try(repo))
	left, err := os.ReadDir(filepath.Join(repo, missedFolder))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAServiceThatRefusesSaysWhy(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_, _ = w.Write([]byte("  no such project  "))
	}))
	defer server.Close()
	_, err := Send(t.Context(), Settings{Address: server.URL, Key: key}, "d", []byte("{}"), 0)
	assert.ErrorContains(t, err, "403 Forbidden: no such project")
	for _, s := range []Settings{{Address: server.URL, Key: "no key"}, {Address: "http://[", Key: key}} {
		_, err := Send(t.Context(), s, "d", []byte("{}"), 0)
		assert.Error(t, err)
	}
}

func TestOnlySoManyRunsAreToldOneByOne(t *testing.T) {
	for n, rest := range map[int]string{runsTold: "", runsTold + 3: "piston: and 3 more\n"} {
		var told bytes.Buffer
		a := api.PushAccepted{Planned: true}
		for i := range n {
			a.Runs = append(a.Runs, api.PushRun{Number: record.RunNumber(i + 1), Pipeline: "p", State: state.Queued})
		}
		tell(&told, a)
		assert.Equal(t, runsTold, strings.Count(told.String(), "piston: run "))
		assert.Equal(t, rest != "", strings.HasSuffix(told.String(), rest) && rest != "")
		assert.NotContains(t, told.String(), red)
	}
}

func TestTheGroupOfASharedRepositoryMayDoWhatItsOwnerMay(t *testing.T) {
	repo := t.TempDir()
	require.NoError(t, os.Chmod(repo, 0o770))
	require.NoError(t, Install(repo, "/usr/bin/piston", here))
	for name, wanted := range map[string]os.FileMode{settingsFile: 0o660, missedFolder: 0o770} {
		info, err := os.Stat(filepath.Join(repo, name))
		require.NoError(t, err)
		assert.Equal(t, wanted, info.Mode().Perm(), name)
		assert.EqualValues(t, os.Getegid(), info.Sys().(*syscall.Stat_t).Gid)
	}
	require.NoError(t, Report(t.Context(), repo, strings.NewReader(line), &bytes.Buffer{}))
	waiting, err := List(repo)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	info, err := os.Stat(waiting[0].File)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
}

func TestOnlyReportsAreTakenForSome(t *testing.T) {
	repo := t.TempDir()
	waiting, err := List(repo)
	require.NoError(t, err, "where there never was one")
	assert.Empty(t, waiting)
	dir := filepath.Join(repo, missedFolder)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "0-folder.json"), 0o700))
	for name, text := range map[string]string{"1-a.json": `{"delivery":"a"}`, "2-b.json.new": `{"delivery":"half"}`,
		"3-c.txt": `{"delivery":"other"}`, "4-d.json": `{"delivery":""}`, "5-e.json": "no report", "6-f.json": `{"delivery":"f"}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	waiting, err = List(repo)
	require.NoError(t, err)
	require.Len(t, waiting, 2)
	assert.Equal(t, []string{"a", "f"}, []string{waiting[0].Delivery, waiting[1].Delivery})
}
