package logline

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a step prints may be meant for the terminal of whoever reads it.
func TestOnlyColoursPass(t *testing.T) {
	for text, want := range map[string][2]string{ // plain, coloured
		"tide":                                  {"tide", "tide"},
		"":                                      {"", ""},
		"\x1b[1;31merror:\x1b[0m no":            {"error: no", "\x1b[1;31merror:\x1b[0m no"},
		"\x1b[38:2:1:2:3mx\x1b[mx":              {"xx", "\x1b[38:2:1:2:3mx\x1b[mx"},
		"\x1b[2J\x1b[H\x1b[?25lx\x1b[K":         {"x", "x"},       // clears the screen, hides the cursor
		"\x1b[>4;2mx\x1b[?1mx\x1b[1 mx":         {"xxx", "xxx"},   // ends in m, and is no colour
		"\x1b]52;c;YWJj\x1b\\x":                 {"x", "x"},       // writes into the clipboard
		"\x1b]0;title\ax":                       {"x", "x"},       // renames the window
		"\x1b]8;;http://a\x1b\\x\x1b]8;;\x1b\\": {"x", "x"},       // a link
		"\x1bP+q544e\x1b\\x\x1b_x\x1b\\x":       {"xx", "xx"},     // asks the terminal to type
		"\x1b[6nx\x1b[cx\x1bcx\x1b7x":           {"xxxx", "xxxx"}, // and so do these; one resets it
		"\x1b(Bx\x1b[mx\x1b#8x":                 {"xxx", "x\x1b[mxx"},
		"x\x1b":                                 {"x", "x"},
		"x\x1b[":                                {"x", "x"},
		"x\x1b[31":                              {"x", "x"},
		"x\x1b[31ä":                             {"xä", "xä"},
		"x\x1b(":                                {"x", "x"},
		"\x1b]0;never ends":                     {"0;never ends", "0;never ends"},
		"\x1b\x1b[31mx":                         {"x", "\x1b[31mx"},
		"\x1bäx":                                {"äx", "äx"},
	} {
		assert.Equal(t, want[0], Plain(text), "%q", text)
		assert.Equal(t, want[1], Coloured(text), "%q", text)
		if want[0] == want[1] && !strings.Contains(want[1], "\x1b") {
			continue
		}
		assert.Equal(t, want[1], Coloured(want[1]), "%q", text)
	}
	assert.Equal(t, strings.Repeat("a", 1<<20), Plain(strings.Repeat("\x1b]a", 1<<20)), "in a time that is linear")
	assert.Equal(t, "a0;b\nc\ad", Plain("a\x1b]0;b\nc\ad"), "none goes on in the next line")
}
