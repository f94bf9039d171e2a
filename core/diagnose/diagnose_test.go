package diagnose

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/logline"
)

func TestLooksLikeError(t *testing.T) {
	for _, text := range []string{
		"core/tide.c:12:5: error: use of undeclared identifier 'x'",
		"\x1b[1;31merror:\x1b[0m something",
		"ld.lld: error: undefined symbol: tide_height",
		"make: *** [Makefile:3: test] Error 1",
		"sh: 3: fetch-depot: not found",
		"FAIL high_water", "not ok 4 - low water", "curl: (7) Connection refused",
		"Traceback (most recent call last):",
		"sha256sum: WARNING: 1 computed checksum did NOT match: FAILED",
	} {
		assert.True(t, LooksLikeError(text), text)
	}
	for _, text := range []string{
		"12 passed, 0 failed, no errors", "compiling error_table.c", "cc -Werror -o x", "errors: 0", "all good",
		"clang --target=aarch64 -fno-exceptions core/tide.c",
	} {
		assert.False(t, LooksLikeError(text), text)
	}
}

func TestCollectorKeepsTheFirstErrorsWithContext(t *testing.T) {
	var c Collector
	for n := int64(1); n <= 100_000; n++ {
		text := fmt.Sprintf("line %d", n)
		if n == 500 || n > 600 {
			text = "error: number " + text
		}
		c.Add(logline.Line{N: n, Text: text})
	}
	got := c.Lines()
	require.NotEmpty(t, got)
	assert.Equal(t, int64(500), got[0].N)
	assert.Equal(t, "line 501", got[1].Text)
	assert.LessOrEqual(t, len(got), keepErrors*(1+keepContext))
}

func TestCollectorFallsBackToTheTail(t *testing.T) {
	var c Collector
	for n := int64(1); n <= 30; n++ {
		c.Add(logline.Line{N: n, Text: "quiet"})
	}
	got := c.Lines()
	require.Len(t, got, keepTail)
	assert.Equal(t, int64(21), got[0].N)
	assert.Equal(t, int64(30), got[keepTail-1].N)
}

func TestAWordIsFoundInWhatWasPickedAndInTheEnd(t *testing.T) {
	var c Collector
	assert.False(t, c.Says("gone"))
	for n := int64(1); n <= 200; n++ {
		text := "nothing"
		switch n {
		case 3:
			text = "error: no space left on device"
		case 100:
			text = "in the middle"
		case 200:
			text = "at the end"
		}
		c.Add(logline.Line{N: n, Text: text})
	}
	assert.True(t, c.Says("no space left"))
	assert.True(t, c.Says("at the end"))
	assert.False(t, c.Says("in the middle"), "it was passed by")
}
