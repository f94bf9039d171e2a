package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

const value = `k3y/with+odd "chars" & é`

func TestHidesEveryEncoding(t *testing.T) {
	m := New(value, "first-line\nsecond-line\nx")
	for name, text := range map[string]string{
		"raw":         "a " + value + " b",
		"hex":         "x" + hex.EncodeToString([]byte(value)) + "x",
		"query":       "https://h/?q=" + url.QueryEscape(value),
		"json":        fmt.Sprintf("{\"k\":%q}", value),
		"line of two": "say second-line!",
	} {
		got := m.String(text)
		assert.Contains(t, got, Hidden, name)
		assert.NotContains(t, got, "odd", name)
		assert.NotContains(t, got, "second-line", name)
	}
	for shift := range 3 {
		plain := strings.Repeat("p", shift) + value + "tail"
		text := base64.StdEncoding.EncodeToString([]byte(plain))
		got := m.String(text)
		assert.Contains(t, got, Hidden, "alignment %d", shift)
		assert.Less(t, len(strings.ReplaceAll(got, Hidden, "")), len(text)-len(value), "alignment %d leaves %s", shift, got)
	}
}

func TestHidesAcrossAnyBoundary(t *testing.T) {
	m := New("correct-horse", "correct", "horse-battery")
	text := "x correct-horse-battery correct\ncorrec t corr\n correct-hors"
	want := m.String(text)
	assert.NotContains(t, want, "correct-horse")
	for cut := range len(text) {
		for _, second := range []int{cut, (cut + len(text)) / 2} {
			var out bytes.Buffer
			w := m.Writer(func(p []byte) { out.Write(p) })
			for _, part := range []string{text[:cut], text[cut:second], text[second:]} {
				_, _ = w.Write([]byte(part))
			}
			w.Flush()
			assert.Equal(t, want, out.String(), "cut at %d and %d", cut, second)
		}
	}
}

func TestALineBreakReleasesTheLine(t *testing.T) {
	var out bytes.Buffer
	w := New(strings.Repeat("long", 50)).Writer(func(p []byte) { out.Write(p) })
	_, _ = w.Write([]byte("shown at once\npartial"))
	assert.Equal(t, "shown at once\n", out.String())
}

func TestShortAndEmptyValuesHideNothing(t *testing.T) {
	assert.Equal(t, "a b c", New("", "a", "  ", "b\nc").String("a b c"))
}

func FuzzWriterAgreesWithWhole(f *testing.F) {
	f.Add("some secret text secret", "secret", 5)
	f.Fuzz(func(t *testing.T, text, value string, cut int) {
		m := New(value)
		if cut < 0 || cut > len(text) {
			return
		}
		var out bytes.Buffer
		w := m.Writer(func(p []byte) { out.Write(p) })
		_, _ = w.Write([]byte(text[:cut]))
		_, _ = w.Write([]byte(text[cut:]))
		w.Flush()
		if got, want := out.String(), m.String(text); got != want {
			t.Fatalf("cut at %d: %q, whole: %q", cut, got, want)
		}
	})
}
