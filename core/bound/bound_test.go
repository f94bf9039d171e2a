package bound

import (
	"fmt"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTOML(t *testing.T) {
	for text, want := range map[string]Measure{
		"":                                  {},
		"a = 1":                             {0, 1},
		"a = [1, 2]":                        {1, 3},
		"a = [[[]]]":                        {3, 4},
		"a = { b = { c = 1 } }":             {2, 5},
		"a.b.c = 1":                         {2, 1},
		"[a.b]\nc = 1":                      {2, 2},
		"a = '[[[['":                        {0, 1},
		"a = \"[\\\"[[\"":                   {0, 1},
		"a = '''\n[[[\n''' # [[[":           {0, 1},
		"a = \"\"\"\n[[[ \\\"\"\" [[\"\"\"": {0, 1},
		"a = '''x''''' # two of the quotes are of the text\nb = [1]": {1, 3},
		"'[[[' = 1": {0, 1},
		"a = '[\n[": {1, 2},
	} {
		assert.Equal(t, want, TOML([]byte(text)), "%q", text)
	}
}

// FuzzTOML looks for documents that are deeper than was measured.
func FuzzTOML(f *testing.F) {
	for _, seed := range []string{"a = [[{b = [1]}]]", "a.b.'c.d' = \"\"\"[\"\"\"\"\"", "[[x.y]]\nz = '''\n'''"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var doc map[string]any
		if toml.Unmarshal([]byte(text), &doc) != nil {
			return
		}
		m := TOML([]byte(text))
		require.LessOrEqual(t, arrays(doc), m.Depth, "%q", text)
		require.LessOrEqual(t, leaves(doc), m.Values, "%q", text)
	})
}

// arrays is how deep arrays are within each other.
func arrays(v any) (deepest int) {
	switch v := v.(type) {
	case map[string]any:
		for _, w := range v {
			deepest = max(deepest, arrays(w))
		}
	case []any:
		for _, w := range v {
			deepest = max(deepest, arrays(w))
		}
		return deepest + 1
	}
	return deepest
}

func leaves(v any) (n int) {
	switch v := v.(type) {
	case map[string]any:
		for _, w := range v {
			n += leaves(w)
		}
		return n
	case []any:
		for _, w := range v {
			n += leaves(w)
		}
		return n
	}
	return 1
}

func TestShell(t *testing.T) {
	assert.Equal(t, 0, Shell("make -j2 && echo done"))
	assert.Equal(t, 2, Shell("echo $(date +$(cat form))"))
	assert.GreaterOrEqual(t, Shell(strings.Repeat("$(", 200_000)), 200_000)
	assert.GreaterOrEqual(t, Shell(strings.Repeat("echo `", 3000)), 1000)
	long := ""
	for n := range 2000 {
		long += fmt.Sprintf("case $1 in a%d) echo \"($n)\" ;; esac\n", n)
	}
	assert.Less(t, Shell(long), 10, "what is long is not deep")
}

func TestShellNestsAsDeepAsIsOpen(t *testing.T) {
	for script, depth := range map[string]int{"": 0, "true": 0, "(a)": 1, "((a))": 2, "(a) (b)": 1, "$(a $(b))": 2, "{ a; }": 1,
		"[ x ]": 1, ")(": 1, "`a`": 1, "`a \\`b\\``": 2, "(`a`)": 2, "$(a `b`": 2} {
		assert.Equal(t, depth, Shell(script), script)
	}
}
