package logdiff

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What differs in every run counts for nothing; what may be the news does.
func TestWhatCounts(t *testing.T) {
	for _, same := range [][2]string{
		{"took 12 ms", "took 3.4 s"}, {"2026-12-01T10:00:00Z start", "2025-01-31T23:59:59.123+01:00 start"},
		{"[10:31:07] compile", "[9:02:44] compile"}, {"at 0x7ffe01", "at 0x12"},
		{"checked out c0ffee1234 in 57 ms", "checked out beefbeef99 in 9 s"},
		{"id 123e4567-e89b-12d3-a456-426614174000", "id 00000000-e89b-12d3-a456-426614174999"},
		{"in /tmp/tests-cadee8.o: no", "in /tmp/tests-99abc.o: no"}, {"\x1b[31mred\x1b[0m", "red"}, {"a  b", "a b "},
		{"BUILD SUCCESSFUL in 1m", "BUILD SUCCESSFUL in 22s"},
	} {
		assert.Equal(t, Key(same[0]), Key(same[1]))
	}
	for _, other := range [][2]string{
		{"7 tests passed", "6 tests passed"}, {"exit code 1", "exit code 2"}, {"arm64-v8a", "x86_64"}, {"size 10 MB", "size 20 MB"},
		{"version 1.4.0", "version 1.5.0"}, {"3.2 m high", "3.4 m high"}, {"4 m", "5 m"}, {"added", "faded"}, {"f1", "f2"},
	} {
		assert.NotEqual(t, Key(other[0]), Key(other[1]))
	}
	assert.NotEmpty(t, Key(strings.Repeat("x", longest-1)+"é\xff"))
}

// holds checks that parts cover both logs, in their order, and that what is said to be the same is.
func holds(t *testing.T, was, is []string, parts []Part) {
	t.Helper()
	w, i := 0, 0
	for n, p := range parts {
		require.Equal(t, []int{w, i}, []int{p.WasFrom, p.IsFrom})
		require.Positive(t, p.WasLen+p.IsLen)
		if n > 0 {
			require.NotEqual(t, parts[n-1].Same, p.Same, "parts that follow each other are one")
		}
		if p.Same {
			require.Equal(t, p.WasLen, p.IsLen)
			for k := range p.WasLen {
				require.Equal(t, Key(was[w+k]), Key(is[i+k]))
			}
		}
		w, i = w+p.WasLen, i+p.IsLen
	}
	require.Equal(t, []int{len(was), len(is)}, []int{w, i})
}

func TestParts(t *testing.T) {
	was := []string{"compile", "ok in 3 s", "test", "7 passed", "package"}
	is := []string{"compile", "ok in 9 s", "warning: late", "test", "6 passed", "1 failed"}
	parts := Parts(was, is, time.Second)
	holds(t, was, is, parts)
	assert.Equal(t, []Part{{true, 0, 2, 0, 2}, {false, 2, 0, 2, 1}, {true, 2, 1, 3, 1}, {false, 3, 2, 4, 2}}, parts)
	parts = Parts(was, was, time.Second)
	assert.Equal(t, []Part{{true, 0, 5, 0, 5}}, parts)
	parts = Parts(nil, is, time.Second)
	assert.Equal(t, []Part{{false, 0, 0, 0, 6}}, parts)
	parts = Parts(nil, nil, time.Second)
	assert.Empty(t, parts)
}

// Logs of any kind are told apart rightly, and those of more lines than there are characters before the gap.
func TestPartsOfAnyLogs(t *testing.T) {
	pen := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var logs [2][]string
		for i := range logs {
			for range pen.IntN(40) {
				logs[i] = append(logs[i], strings.Repeat("x", pen.IntN(5)))
			}
		}
		parts := Parts(logs[0], logs[1], time.Second)
		holds(t, logs[0], logs[1], parts)
	}
	long := make([]string, MaxLines)
	for i := range long {
		long[i] = fmt.Sprint("line ", i)
	}
	other := append(append([]string{"before"}, long[:70_000]...), long[70_100:]...)
	parts := Parts(long, other, 20*time.Second)
	holds(t, long, other, parts)
	assert.Len(t, parts, 4)
}

// Two logs that have nothing in common end in time.
func TestALogThatIsHardToCompare(t *testing.T) {
	pen := rand.New(rand.NewPCG(3, 4))
	var logs [2][]string
	for i := range logs {
		for range MaxLines / 2 {
			logs[i] = append(logs[i], fmt.Sprint("word ", pen.IntN(500)))
		}
	}
	parts := Parts(logs[0], logs[1], 300*time.Millisecond)
	assert.NotEmpty(t, parts)
	holds(t, logs[0], logs[1], parts)
}

// What has nothing in common takes no search: what little is the same is found in no time at all.
func TestLogsThatHaveLittleInCommon(t *testing.T) {
	var was, is []string
	for i := range 20_000 {
		was, is = append(was, fmt.Sprint("old ", i)), append(is, fmt.Sprint("new ", i))
		if i%5000 == 2500 {
			was, is = append(was, fmt.Sprint("shared ", i)), append(is, "another", fmt.Sprint("shared ", i))
		}
	}
	parts := Parts(was, is, time.Millisecond)
	holds(t, was, is, parts)
	require.Len(t, parts, 9)
	for n, p := range parts {
		assert.Equal(t, n%2 == 1, p.Same)
	}
}

func FuzzParts(f *testing.F) {
	f.Add("a\nb\n", "a\nc\n")
	f.Add("\xff\x00\n12:00", "é\n\n13:00 ms")
	f.Fuzz(func(t *testing.T, a, b string) {
		was, is := strings.Split(a, "\n"), strings.Split(b, "\n")
		parts := Parts(was, is, time.Second)
		holds(t, was, is, parts)
	})
}
