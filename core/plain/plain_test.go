package plain

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsNotSeenIsTakenOut(t *testing.T) {
	for text, want := range map[string]string{
		" tides\nat noon ": "tides\nat noon", "a\x00b\x1b[31mc\x7f": "ab[31mc", "safe\u202egnp.exe": "safegnp.exe",
		"\ufeffa\u200bb\u00add": "abd", "half \xff": "half \ufffd", "👩\u200d🚀": "👩\u200d🚀", "\U000f0000": "",
	} {
		assert.Equal(t, want, Text(text), "%q", text)
	}
	assert.Equal(t, "a b", Line(" a\r\n\tb "))
}

func FuzzText(f *testing.F) {
	f.Add("a\x00\u202e\nb")
	f.Fuzz(func(t *testing.T, text string) {
		once := Text(text)
		assert.Equal(t, once, Text(once), "what is clean stays as it is")
		assert.NotContains(t, Line(text), "\n")
	})
}
