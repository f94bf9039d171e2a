// Package house holds the rules by which the packages are built on each other, and their lines.
package house

import (
	"bytes"
	"errors"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "gentlepiston.example/piston/"

// floors says on which floor each room is: imports run downwards only, or stay in the room.
var floors = map[string]int{
	"core": 0,
	"api":  1, "console": 1, "disk": 1, "bridge": 1, "packaging": 1, "token": 1,
	"world":  1,
	"source": 2, "hook": 2, "store": 2, "stream": 2, "blob": 2, "local": 2, "standin": 2,
	"outlet":  3, // its tests bring something to a stand-in
	"service": 4, "client": 4,
	"httpapi": 5, "runner": 5,
	"host": 6, "demo": 6, "try": 6,
	"cli": 7, "cmd": 8, "bench": 8, "e2e": 8, "mutants": 8,
}

// corridors say the same of what is below a room: on which floor of it each is, by its path in the room. What is not
// named is on floor 0, and the room itself above all.
var corridors = map[string]map[string]int{
	"core": {
		"action": 1, "tree": 1, "appbundle": 1, "mutate/zipped": 1, "versionfile": 1, "identity": 1, "sign/jar": 2, "profile": 1,
		"publication": 1,
		"sign/macho":  2, "sign/apk": 3, "sign/bundle": 3, "appfile": 4, "checklist": 5, "bill": 5,
		"traced": 1, "talk": 1, "definition": 2, "fact": 2, "imprint": 2, "schedule": 2, "diagnose": 2, "plan": 3, "check": 3,
		"cause": 3, "logdiff": 3,
	},
	"cli": {"terminal": 0},
	"service": {
		"ground": 0, "vault": 1, "logs": 1, "letters": 1, "notify": 2, "traces": 2,
		"people": 2, "projects": 2, "secrets": 2, "identities": 2,
		"caches": 2, "expiries": 3, "work": 3, "versions": 3, "gates": 4, "intake": 4, "packages": 4, "releases": 5,
		"report": 5, "stays": 5, "bisect": 5, "testers": 6, "history": 6, "publish": 7, "own": 8,
	},
	"runner": {
		"beside": 0, "process": 0, "sandbox/netns": 0, "sandbox": 1, "attempt": 1, "mount": 1, "trees": 1, "tier": 1, "mirror": 1,
		"workspace": 2, "checkout": 3, "executor": 3,
	},
}

// within tells whether a package of a room with a corridor may import another of it.
func within(room, from, to string) bool {
	floors := corridors[room]
	level := func(at string) int {
		if at == "" {
			return 99
		}
		return floors[at]
	}
	return from == to || level(to) < level(from)
}

// apart are rooms that know nothing of another though it is below: the interface over HTTP goes by the service, and the
// records have shapes of their own, so that neither changes with the other.
var apart = map[string]string{"httpapi": "store", "store": "api"}

// outside lists what the computation must know nothing of.
var outside = []string{"net/http", "database/sql", "os/exec", "log/slog", "github.com/nats-io", "github.com/jmoiron",
	"github.com/jackc", "github.com/urfave", "github.com/danielgtaylor", "golang.org/x/term"}

func TestImportsRunDownwards(t *testing.T) {
	each(t, func(name string, text []byte) {
		room, _, _ := strings.Cut(filepath.ToSlash(name), "/")
		floor, known := floors[room]
		require.True(t, known, "%s is in no room of the house", name)
		f, err := parser.ParseFile(token.NewFileSet(), name, text, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			imported := strings.Trim(i.Path.Value, `"`)
			own, is := strings.CutPrefix(imported, module)
			if is {
				other, _, _ := strings.Cut(own, "/")
				ok := floors[other] < floor || room == other
				if room == other && corridors[room] != nil {
					from := strings.TrimPrefix(path.Dir(filepath.ToSlash(name)), room)
					to := strings.TrimPrefix(own, room)
					assert.True(t, within(room, strings.TrimPrefix(from, "/"), strings.TrimPrefix(to, "/")),
						"%s imports %s: within %s that is not downwards", name, own, room)
				}
				assert.NotEqual(t, other, apart[room], "%s imports %s", name, own)
				assert.True(t, ok, "%s (floor %d) imports %s (floor %d)", name, floor, own, floors[other])
			}
			if room == "core" {
				for _, o := range outside {
					assert.False(t, imported == o || strings.HasPrefix(imported, o+"/"), "%s imports %s", name, imported)
				}
			}
		}
		if room == "core" {
			assert.NotContains(t, string(text), "time.Now(", "%s has a clock of its own", name)
		}
	})
}

// What is formatted by hand is changed by whoever saves it next.
func TestGoIsFormatted(t *testing.T) {
	out, err := exec.Command("git", "ls-files", "-z", "*.go").Output()
	require.NoError(t, err)
	names := strings.Split(strings.TrimRight(string(out), "\x00"), "\x00")
	require.Greater(t, len(names), 500)
	for _, name := range names {
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // deleted, and not yet committed
		}
		require.NoError(t, err)
		formatted, err := format.Source(text)
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(text, formatted), "%s: gofmt -w it", name)
	}
}

// wide is how many columns a line may have, a tab counted as one.
const wide = 120

func TestLinesFitAScreen(t *testing.T) {
	fits := func(name string, text []byte) {
		n := 0
		for line := range strings.Lines(string(text)) {
			n++
			if line = strings.TrimSuffix(line, "\n"); utf8.RuneCountInString(line) > wide {
				assert.Fail(t, "a line that needs a wide screen is two lines", "%s:%d", name, n)
			}
		}
	}
	each(t, fits)
	statements, err := filepath.Glob("store/migrations/*.sql")
	require.NoError(t, err)
	assert.NotEmpty(t, statements)
	for _, name := range statements {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		fits(name, text)
	}
}

// lists are types that are one, of statements and of calls.
var lists = map[string]bool{"store.Q": true, "client.Client": true}

// manyMethods is how many methods a type may have; a package may hold a tenth of the code.
const manyMethods = 40

func TestNoRoomIsCrowded(t *testing.T) {
	lines, methods, all := map[string]int{}, map[string]int{}, 0
	each(t, func(name string, text []byte) {
		dir := path.Dir(filepath.ToSlash(name))
		n := strings.Count(string(text), "\n")
		lines[dir], all = lines[dir]+n, all+n
		f, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			fn, is := d.(*ast.FuncDecl)
			if !is || fn.Recv == nil {
				continue
			}
			of := fn.Recv.List[0].Type
			if star, is := of.(*ast.StarExpr); is {
				of = star.X
			}
			if id, is := of.(*ast.Ident); is {
				methods[f.Name.Name+"."+id.Name]++
			}
		}
	})
	for dir, n := range lines {
		assert.LessOrEqual(t, n, all/10, "%s holds %d of %d lines", dir, n, all)
	}
	for name, n := range methods {
		assert.True(t, n <= manyMethods || lists[name], "%s has %d methods", name, n)
	}
	assert.Greater(t, methods["work.Work"], 10)
}

// each visits the files of Go, but for tests.
func each(t *testing.T, do func(name string, text []byte)) {
	t.Helper()
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
		text, err := os.ReadFile(name)
		if err == nil {
			do(name, text)
		}
		return err
	})
	require.NoError(t, err)
	assert.Greater(t, files, 50)
}
