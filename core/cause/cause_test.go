package cause

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

func TestTheCatalogueKnowsItsExamples(t *testing.T) {
	list, found := definition.ParseCauses("catalogue.toml", catalogue)
	require.Empty(t, found)
	assert.GreaterOrEqual(t, len(list), 80)
	for _, c := range list {
		require.NotEmpty(t, c.Example, c.Name)
		assert.NotEmpty(t, c.Means, c.Name)
		assert.NotEmpty(t, c.Do, c.Name)
		for _, line := range c.Example {
			got, at, is := builtIn().Of([]string{"make: entering directory", line, "make: leaving directory"})
			if assert.True(t, is, "%s: %s", c.Name, line) {
				assert.Equal(t, c.Name, got.Name, line)
				assert.Equal(t, line, at)
			}
		}
	}
}

func TestGoodNewsHasNoCause(t *testing.T) {
	for _, line := range []string{"", "ok  	example.com/tide	0.12s", "0 errors, 0 warnings", "compiling core/tide.c",
		"Tests: 41 passed, 41 total", "cc -Wall -Wextra -c core/error.c", "fetching https://depot.example/charts/404.png",
		"BUILD SUCCESSFUL in 12s", "added 412 packages in 4s", "signed out/tidewick.apk", "  PASS  not found page shows a way back"} {
		got, _, is := builtIn().Of([]string{line})
		assert.False(t, is && got.Name != "program-missing", "%q is told as %s", line, got.Name)
	}
}

func TestWhatIsParticularComesFirst(t *testing.T) {
	got, at, is := builtIn().Of([]string{
		"cp: cannot stat 'out/tide.so': No such file or directory",
		"collect2: error: ld returned 1 exit status",
		"ld: cannot find -ltide: No such file or directory",
	})
	require.True(t, is)
	assert.Equal(t, "library-missing", got.Name, "though the first line has a cause, too")
	assert.Contains(t, at, "-ltide")
}

func TestATeamsOwnAreToldFirst(t *testing.T) {
	own, found := definition.ParseCauses(definition.CausesPath, []byte(`
[[cause]]
name = "charts-behind"
title = "the charts are behind the code"
says = ['chart \w+ has no edition \d+']
do = "Raise the submodule charts."
example = ["fatal error: chart skagen has no edition 9: No such file or directory"]
`))
	require.Empty(t, found)
	with := With(own)
	got, _, is := with.Of([]string{"\x1b[31mfatal error: chart skagen has no edition 9: No such file or directory\x1b[0m"})
	require.True(t, is)
	assert.Equal(t, "charts-behind", got.Name)
	assert.True(t, got.Own)
	assert.Len(t, with.All(), len(builtIn())+1)
}

func TestTheSameFailureIsKnownAgain(t *testing.T) {
	a := Normal("/tmp/cc8dFk2a.o:(.text+0x1f): undefined reference to `high_water' (12.3 s)")
	b := Normal("/tmp/ccQQQ1.o:(.text+0x2a):  undefined reference to `high_water' (9 s)")
	assert.Equal(t, b, strings.ReplaceAll(a, "#.# s", "# s"))
	assert.NotEqual(t, Normal("undefined reference to `low_water'"), Normal("undefined reference to `high_water'"))
	assert.Equal(t, "at commit # line #", Normal("\x1b[1mat commit 4a84107d line 12\x1b[0m\x00"))
	assert.True(t, len(Normal(strings.Repeat("x", 1<<20))) <= longest)
	c := Cause{Name: "types"}
	assert.Equal(t, Print("compile", c, "a.c:3: no"), Print("compile", c, "a.c:99: no"))
	assert.NotEqual(t, Print("compile", c, "a"), Print("test", c, "a"))
}

// A pattern that makes other engines try for ever, and text made for it.
func TestNoPatternRunsForEver(t *testing.T) {
	e := regexp.MustCompile(`^(a+)+$`)
	own := Catalogue{{Cause{Name: "evil"}, []*regexp.Regexp{e}}}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 100 {
			own.Of([]string{strings.Repeat("a", longest-1) + "!"})
		}
	}()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		t.Fatal("a pattern runs for ever")
	}
}
