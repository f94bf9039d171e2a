package logline

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func always() bool { return true }

// finished is a finished log of some lines.
func finished(t *testing.T, texts []string) (*bytes.Reader, int64) {
	t.Helper()
	var b bytes.Buffer
	w, err := NewFileWriter(&b)
	require.NoError(t, err)
	for i, text := range texts {
		require.NoError(t, w.Append(Line{N: int64(i + 1), At: 1754000000000 + int64(i), Step: i % 3, Text: text}))
	}
	require.NoError(t, w.Close())
	return bytes.NewReader(b.Bytes()), int64(b.Len())
}

var unread = regexp.MustCompile(`\x1b\[[\d;]*[mK]|\x1b\]0;tide\x07`)

// A search finds what looking at each line finds, whatever is in them.
func TestASearchFindsWhatIsThere(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	words := []string{"\x1b[1;31merr\x1b[0mor", "\x1b[K", "\x1b]0;tide\x07", "error", "Error:", "undefined", "tide", "17", "ok", "ERRor", "ährenfeld", "x", " ", "1754000000001"}
	var texts []string
	for range 20_000 {
		var b strings.Builder
		for range r.IntN(6) {
			b.WriteString(words[r.IntN(len(words))])
			b.WriteByte(' ')
		}
		texts = append(texts, b.String())
	}
	log, size := finished(t, texts)
	for _, of := range []struct {
		text    string
		pattern bool
	}{{"error", false}, {"ERROR:", false}, {"undefined tide", false}, {"17", false}, {"1754000000001", false}, {"ÄHRE", false},
		{"e", false}, {"no such thing", false}, {`tide\s+17`, true}, {`^ok`, true}} {
		f, err := NewFinder(of.text, of.pattern)
		require.NoError(t, err)
		expression := regexp.MustCompile("(?i)" + regexp.QuoteMeta(of.text))
		if of.pattern {
			expression = regexp.MustCompile(of.text)
		}
		var want []int64
		for i, text := range texts {
			if expression.MatchString(unread.ReplaceAllString(text, "")) { // as it is read
				want = append(want, int64(i+1))
			}
		}
		var got []int64
		for from := int64(1); from > 0; { // page by page
			found, more, err := SearchFile(log, size, from, f, 997, always)
			require.NoError(t, err)
			for _, l := range found {
				got = append(got, l.N)
				assert.Equal(t, texts[l.N-1], l.Text)
			}
			from = more
		}
		assert.Equal(t, want, got, of.text)
	}
}

func TestASearchEndsWhenThereIsNoTime(t *testing.T) {
	var texts []string
	for i := range 60_000 {
		texts = append(texts, fmt.Sprintf("line %d of a log that goes on and on", i))
	}
	log, size := finished(t, texts)
	f, err := NewFinder("line 59999", false)
	require.NoError(t, err)
	looks := 0
	found, more, err := SearchFile(log, size, 1, f, 10, func() bool { looks++; return looks < 3 })
	require.NoError(t, err)
	assert.Empty(t, found)
	require.Greater(t, more, int64(1))
	found, more, err = SearchFile(log, size, more, f, 10, always)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.EqualValues(t, 60_000, found[0].N)
	assert.Zero(t, more)
}

func TestWhatCannotBeLookedFor(t *testing.T) {
	for _, text := range []string{"", "a\nb", "a\x00", strings.Repeat("x", 501)} {
		_, err := NewFinder(text, false)
		assert.Error(t, err, "%q", text)
	}
	for _, text := range []string{"(", `(?<=a)b`, ".*"} {
		_, err := NewFinder(text, true)
		assert.Error(t, err, "%q", text)
	}
}
