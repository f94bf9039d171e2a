package demo

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

func TestTheDepotGivesItsPackagesToWhoHasTheKey(t *testing.T) {
	address, stop, err := startDepot(0)
	require.NoError(t, err)
	defer stop()
	get := func(path, key string) (int, string) {
		req, err := http.NewRequest(http.MethodGet, address+path, nil)
		require.NoError(t, err)
		req.Header.Set("X-Depot-Key", key)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		assert.NotEmpty(t, res.Header.Get("X-Stand-In"), "it says that it is a stand-in")
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text)
	}
	code, _ := get("/gullwick.station", "wrong")
	assert.Equal(t, http.StatusForbidden, code)
	code, text := get("/gullwick.station", depotKey)
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, packages[0].text(), text)
	code, _ = get("/nowhere.station", depotKey)
	assert.Equal(t, http.StatusNotFound, code)
}

func TestTheRepositoryIsWhole(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, writeTree(dir, "http://127.0.0.1:1"))
	lock, err := os.ReadFile(filepath.Join(dir, "depot.lock"))
	require.NoError(t, err)
	assert.Equal(t, len(packages)+1, strings.Count(string(lock), "\n"))
	info, err := os.Stat(filepath.Join(dir, "tools/fetch-depot"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&0o111)
	ignore, err := os.ReadFile(filepath.Join(dir, ".gitignore"))
	require.NoError(t, err)
	assert.Contains(t, string(ignore), "services.json", "what is secret is not in the repository")
	pipelines, err := filepath.Glob(filepath.Join(dir, "piston/*.toml"))
	require.NoError(t, err)
	require.Len(t, pipelines, 6, "five pipelines, and what is said of the app")
	parts := func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, name)) }
	for _, p := range pipelines {
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		_, found := definition.Parse("piston/"+filepath.Base(p), text, parts)
		if filepath.Base(p) == definition.AppFile {
			_, found = definition.ParseApps(text)
		}
		assert.Empty(t, found, p)
	}
	_, found := definition.Parse("piston/yearly.toml", []byte(yearly), parts)
	require.Len(t, found, 1, "the slip of the story is one")
	for _, c := range chapters {
		assert.NotEmpty(t, c.runs, c.what)
	}
}
