package e2e

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// moves is what a terminal does something at, but for colours and line ends.
var moves = regexp.MustCompile(`\x1b(?:[^\[]|\[[\d;]*[^\d;m])|[\x00-\x08\x0b\x0c\x0e-\x1a\x7f]|\r[^\r\n]`)

// Whoever watches a stranger's run, or checks what one proposes, does so in a terminal: nothing of it gets into the
// clipboard, over the screen, into the title, or is typed.
func TestStrangersMoveNothingInATerminal(t *testing.T) {
	s := theServer(t)
	const rude = `\033]52;c;cm0gLXJm\033\\\033[2J\033[H\033]0;t\007\033[6n\033c\033[31mred\033[0m`
	r := s.script(t, "rude", `printf '`+rude+` tide\n'`)
	r.push()
	r.passes(1)
	all := func(args ...string) (text string) {
		y := s.types(t, args...)
		_ = y.cmd.Wait() // what is wrong with a file is its exit code
		require.Eventually(t, func() bool {
			y.mu.Lock()
			defer y.mu.Unlock()
			text = y.text.String()
			return strings.Contains(text, "tide")
		}, 20*time.Second, 10*time.Millisecond)
		return text
	}
	text := all("log", "rude", "1", "--job", "main")
	assert.Contains(t, text, "\x1b[31mred\x1b[0m", "colours are shown")
	assert.False(t, moves.MatchString(text), "%q", text)

	r.write(map[string]string{"piston/trunk.toml": "x = \"\x1b]52;c;cm0gLXJm\x07\x1b[2Jtide\"\n"})
	text = all("check", r.dir)
	assert.Contains(t, text, "control characters")
	assert.False(t, moves.MatchString(text), "%q", text)
}
