package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func paths(r reading, kind useKind) (list []string) {
	for _, u := range r.uses {
		if u.kind == kind {
			list = append(list, u.path)
		}
	}
	return list
}

func TestWhatAScriptNeeds(t *testing.T) {
	for name, c := range map[string]struct {
		script   string
		dir      string
		programs []string
		inputs   []string
		folders  []string
	}{
		"a program":                  {"tools/a x", ".", []string{"tools/a"}, nil, nil},
		"from the step's folder":     {"./a", "deep/er", []string{"deep/er/a"}, nil, nil},
		"after a cd":                 {"cd x && ./a; cd ../y; ./b", ".", []string{"x/a", "y/b"}, nil, []string{"x", "y"}},
		"a subshell goes back":       {"(cd x; ./a); ./b", ".", []string{"x/a", "b"}, nil, []string{"x"}},
		"a branch may have moved":    {"if true; then cd x; fi; ./a", ".", nil, nil, []string{"x"}},
		"a folder that is computed":  {`cd "$D"; ./a; cat b`, ".", nil, nil, nil},
		"a folder outside":           {"cd ..; ./a", ".", nil, nil, []string(nil)},
		"through interpreters":       {"sh a.sh; python3 b.py; . ./c", ".", nil, []string{"a.sh", "b.py", "c"}, nil},
		"an interpreter with code":   {"sh -c 'x'; python3 -c 'y'", ".", nil, nil, nil},
		"through wrappers":           {"env A=1 B=2 ./a; exec ./b; nice -n 5 ./c", ".", []string{"a", "b"}, nil, nil},
		"with variables before":      {"A=1 ./a", ".", []string{"a"}, nil, nil},
		"of a redirection":           {"sort < names > sorted", ".", nil, []string{"names"}, nil},
		"of cat and cp":              {"cat a b; cp c d", ".", nil, []string{"a", "b", "c"}, nil},
		"in loops and cases":         {"for i in 1 2; do ./a; done; case x in x) ./b;; esac; while false; do ./c; done", ".", []string{"a", "b", "c"}, nil, nil},
		"in a substitution":          {`x=$(./a); echo "$(./b)"`, ".", []string{"b"}, nil, nil},
		"quoted":                     {`"tools/a b" 'c/d'`, ".", []string{"tools/a b"}, nil, nil},
		"absolute ones are not ours": {"/usr/bin/a; cat /etc/hosts", ".", nil, nil, nil},
		"globs and homes are open":   {"tools/* ; ~/x ; cat *.txt", ".", nil, nil, nil},
		"a here-document is a text":  {"cat <<E\n./a\nE", ".", nil, nil, nil},
	} {
		r := read(c.script, "sh", c.dir)
		require.Nil(t, r.fault, name)
		assert.Equal(t, c.programs, paths(r, program), name)
		assert.Equal(t, c.inputs, paths(r, input), name)
		assert.Equal(t, c.folders, paths(r, folder), name)
	}
}

func TestWhatAScriptAsksOfMake(t *testing.T) {
	for script, want := range map[string]use{
		"make":                   {path: "."},
		"make test":              {path: ".", target: "test"},
		"make -C core -j 4 lib":  {path: "core", target: "lib"},
		"make VAR=x --silent go": {path: ".", target: "go"},
		"cd a && make b":         {path: "a", target: "b"},
	} {
		r := read(script, "sh", ".")
		found := false
		for _, u := range r.uses {
			if u.kind == makes {
				found = true
				assert.Equal(t, [2]string{want.path, want.target}, [2]string{u.path, u.target}, script)
			}
		}
		assert.True(t, found, script)
		assert.Equal(t, "make", r.opaque, script)
	}
	assert.Empty(t, read("make -f other.mk x", "sh", ".").uses, "another file's targets are not known")
}

func TestWhoMayHaveMadeWhat(t *testing.T) {
	r := read("echo x > out/list\nnpm ci\n./a", "sh", ".")
	require.Len(t, r.uses, 1)
	assert.Equal(t, "npm", r.uses[0].after)
	assert.Equal(t, 3, r.uses[0].line)
	assert.Contains(t, r.words, "out/list")
	assert.Empty(t, read("mkdir out; echo x | tee y; rm z", "sh", ".").opaque, "known programs write only where they are told to")
	guarded := read("[ -f a ] && sh a; test -x b || exit 1\n./b", "sh", ".")
	assert.True(t, guarded.guarded["a"] && guarded.guarded["b"])
	assert.Empty(t, guarded.uses, "what is asked for first is not missed")
	assert.True(t, read("chmod +x x/y", "sh", ".").modes["x/y"])
	assert.NotNil(t, read("if", "sh", ".").fault)
	assert.Nil(t, read("a=(1)", "bash", ".").fault)
	assert.Equal(t, "python3", read("if x:", "python3", ".").opaque)
}
