// Package diagnose picks from a failed step's log the few lines a person needs first.
//
// It looks at lines as they come and keeps a bounded number, so a log of any length costs the same memory.
package diagnose

import (
	"regexp"

	"gentlepiston.example/piston/core/logline"
)

const (
	keepErrors  = 8  // the first lines that look like errors: later ones are mostly their consequences
	keepContext = 2  // lines after each of them, where compilers show the place
	keepTail    = 10 // the last lines, when nothing looks like an error
)

// Collector watches the lines of one step. Its zero value is ready.
type Collector struct {
	picked  []logline.Line
	errors  int
	context int
	tail    []logline.Line
}

var (
	colour = regexp.MustCompile("\x1b\\[[0-9;:?]*[A-Za-z]")
	// Words by which compilers, linkers, shells, test runners and package tools announce a failure.
	failure = regexp.MustCompile(`(?i)(^|[^\w-])(error|fatal|panic|exception|failure|traceback|undefined (reference|symbol)|assertion|cannot find|could not|no such file|not found|permission denied|segmentation fault|killed|unable to|refused|denied|mismatch|abort(ed)?)([^\w]|$)|^FAIL|\bFAILED\b|^\s*not ok\b|^✗|^E\s{2,}`)
	// Phrases that use those words for good news, or for flags of a command line.
	harmless = regexp.MustCompile(`(?i)\b(0|no) (errors?|failures?|failed)\b|-W?error\b|errors?[=:] ?0\b|--?[\w-]*error[\w-]*[ =]|without errors?`)
)

// Plain removes ANSI colour sequences.
func Plain(text string) string { return colour.ReplaceAllString(text, "") }

// LooksLikeError reports whether a line of a log announces a failure.
func LooksLikeError(text string) bool {
	text = Plain(text)
	return failure.MatchString(text) && !harmless.MatchString(text)
}

// Add looks at the next line.
func (c *Collector) Add(l logline.Line) {
	if len(c.tail) == keepTail {
		c.tail = append(c.tail[:0], c.tail[1:]...)
	}
	c.tail = append(c.tail, l)
	switch {
	case c.errors < keepErrors && LooksLikeError(l.Text):
		c.errors++
		c.context = keepContext
		c.picked = append(c.picked, l)
	case c.context > 0:
		c.context--
		c.picked = append(c.picked, l)
	}
}

// Lines returns the lines that matter: the first errors with what follows them, or else the last lines.
func (c *Collector) Lines() []logline.Line {
	if c.errors > 0 {
		return c.picked
	}
	return c.tail
}
