package logline

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWrittenFormSurvives(t *testing.T) {
	lines := []Line{{N: 7, At: 1700000000123, Step: -1, Text: ""}, {N: 8, At: 5, Step: 0, Text: "  two  spaces ü"}, {N: 9, At: 6, Step: 12, Text: "\x1b[31mred\x1b[0m"}}
	got, err := Decode(7, Encode(lines))
	require.NoError(t, err)
	assert.Equal(t, lines, got)
	_, err = Decode(1, []byte("0 5 cut off"))
	assert.ErrorContains(t, err, "line 1")
	_, err = Decode(1, []byte("0 5 ok\nno numbers here\n"))
	assert.ErrorContains(t, err, "line 2")
}

func split(chunks ...string) []string {
	var out []string
	s := NewSplitter(func(text string) { out = append(out, text) })
	for _, c := range chunks {
		_, _ = s.Write([]byte(c))
	}
	s.Flush()
	return out
}

func TestSplitter(t *testing.T) {
	assert.Equal(t, []string{"one", "", "two"}, split("on", "e\n", "\ntw", "o"))
	assert.Equal(t, []string{"windows", "done 100 %"}, split("windows\r\n", "done 1 %\rdone 50 %\r", "done 100 %\n"))
	assert.Equal(t, []string{"half \uFFFD", "nul \u2400"}, split("half \xc3\nnul \x00"))
	assert.Equal(t, []string{"é"}, split("\xc3", "\xa9\n"), "a character cut by a chunk boundary")
}

func TestSplitterCutsEndlessLinesBetweenCharacters(t *testing.T) {
	long := strings.Repeat("€", 3*MaxText)
	got := split(long[:100_001], long[100_001:])
	var joined strings.Builder
	for i, line := range got {
		require.True(t, utf8.ValidString(line))
		require.LessOrEqual(t, len(line), MaxText+len(Continued))
		if i > 0 {
			require.True(t, strings.HasPrefix(line, Continued))
			line = strings.TrimPrefix(line, Continued)
		}
		joined.WriteString(line)
	}
	assert.Equal(t, long, joined.String())
	noise := strings.Repeat("\x80", 3*MaxText)
	assert.Len(t, split(noise), 3, "stray continuation bytes do not hold the splitter up")
}

func TestFileReadsAnyPart(t *testing.T) {
	var file bytes.Buffer
	w, err := NewFileWriter(&file)
	require.NoError(t, err)
	const total = 20_000
	for n := int64(1); n <= total; n++ {
		require.NoError(t, w.Append(Line{N: n, At: n * 10, Step: int(n % 3), Text: fmt.Sprintf("line %d %s", n, strings.Repeat("x", 20))}))
	}
	assert.Error(t, w.Append(Line{N: total + 2}), "a gap is refused")
	require.NoError(t, w.Close())
	r := bytes.NewReader(file.Bytes())
	for _, c := range []struct{ from, want int64 }{{1, 100}, {4999, 100}, {total - 9, 10}, {total + 1, 0}, {0, 100}} {
		got, err := ReadFile(r, r.Size(), c.from, 100)
		require.NoError(t, err)
		require.Len(t, got, int(c.want))
		for i, l := range got {
			require.Equal(t, max(c.from, 1)+int64(i), l.N)
			require.Contains(t, l.Text, fmt.Sprintf("line %d ", l.N))
		}
	}
	dec, err := zstd.NewReader(bytes.NewReader(file.Bytes()))
	require.NoError(t, err)
	defer dec.Close()
	var plain bytes.Buffer
	_, err = plain.ReadFrom(dec)
	require.NoError(t, err, "any Zstandard reader unpacks it")
	assert.Equal(t, total, bytes.Count(plain.Bytes(), []byte{'\n'}))

	_, err = ReadFile(bytes.NewReader(file.Bytes()[:500]), 500, 1, 1)
	assert.ErrorIs(t, err, ErrNotALog)
}

func TestEmptyFile(t *testing.T) {
	var file bytes.Buffer
	w, err := NewFileWriter(&file)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	got, err := ReadFile(bytes.NewReader(file.Bytes()), int64(file.Len()), 1, 10)
	require.NoError(t, err)
	assert.Empty(t, got)
}

func TestAnyPartOfAFinishedLogIsRead(t *testing.T) {
	var file bytes.Buffer
	w, err := NewFileWriter(&file)
	require.NoError(t, err)
	var all []Line
	for n := int64(1); n <= 1000; n++ { // of several frames
		l := Line{N: n, At: n * 3, Step: int(n % 7), Text: strings.Repeat(fmt.Sprint(n, " "), 300)}
		all = append(all, l)
		require.NoError(t, w.Append(l))
	}
	assert.Error(t, w.Append(Line{N: 1002}), "a line is missing")
	assert.EqualValues(t, 1000, w.Lines())
	require.NoError(t, w.Close())
	frames := bytes.Count(file.Bytes(), []byte{0x28, 0xb5, 0x2f, 0xfd}) // RFC 8878, 3.1.1
	require.Greater(t, frames, 3)
	for from := int64(1); from <= 1001; from += 13 {
		for _, limit := range []int{1, 40, 2000} {
			got, err := ReadFile(bytes.NewReader(file.Bytes()), int64(file.Len()), from, limit)
			require.NoError(t, err)
			wanted := all[from-1 : min(int(from)-1+limit, 1000)]
			require.Len(t, got, len(wanted), "from %d", from)
			if len(wanted) > 0 {
				require.Equal(t, wanted, got)
			}
		}
	}
	for cut := 1; cut < 40; cut++ {
		_, err := ReadFile(bytes.NewReader(file.Bytes()[:file.Len()-cut]), int64(file.Len()-cut), 1, 1)
		require.Error(t, err, "cut by %d", cut)
	}
}

func TestALineThatBeginsAnew(t *testing.T) {
	assert.Equal(t, []string{"again"}, split("\ragain\n"))
	assert.Equal(t, []string{""}, split("gone\r\r\n"))
	assert.Equal(t, []string{"kept"}, split("kept\r\n"))
}
