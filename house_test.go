// Package house holds the rule by which the packages are built on each other.
package house

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "gentlepiston.example/piston/"

// floors says on which floor each room is: imports run downwards only, or stay in the room.
var floors = map[string]int{
	"core": 0,
	"api":  1, "console": 1, "disk": 1,
	"source": 2, "hook": 2, "store": 2, "stream": 2, "blob": 2, "local": 2,
	"service": 3, "client": 3,
	"httpapi": 4, "runner": 4,
	"host": 5, "demo": 5, "try": 5,
	"cli": 6, "cmd": 7, "bench": 7, "e2e": 7,
}

// outside lists what the computation must know nothing of.
var outside = []string{"net/http", "database/sql", "os/exec", "log/slog", "github.com/nats-io", "github.com/jmoiron",
	"github.com/jackc", "github.com/urfave", "github.com/danielgtaylor", "golang.org/x/term"}

func TestImportsRunDownwards(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return fs.SkipDir
		}
		if path.Ext(name) != ".go" || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files++
		room, _, _ := strings.Cut(filepath.ToSlash(name), "/")
		floor, known := floors[room]
		require.True(t, known, "%s is in no room of the house", name)
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			imported := strings.Trim(i.Path.Value, `"`)
			own, is := strings.CutPrefix(imported, module)
			if is {
				other, _, _ := strings.Cut(own, "/")
				ok := floors[other] < floor || room == other
				assert.True(t, ok, "%s (floor %d) imports %s (floor %d)", name, floor, own, floors[other])
			}
			if room == "core" {
				for _, o := range outside {
					assert.False(t, imported == o || strings.HasPrefix(imported, o+"/"), "%s imports %s", name, imported)
				}
			}
		}
		if room == "core" {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.NotContains(t, string(text), "time.Now(", "%s has a clock of its own", name)
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 50)
}
