// Package diagnose picks from a failed step's log the few lines a person needs first.
//
// It looks at lines as they come and keeps a bounded number, so a log of any length costs the same memory.
package diagnose

import (
	"regexp"
	"strings"

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
	// Words by which compilers, linkers, shells, test runners and package tools announce a failure.
	failure = regexp.MustCompile(`(?i)(^|[^\w-])(error|fatal|panic|exception|failure|traceback|undefined (reference|` +
		`symbol)|assertion|cannot find|could not|no such file|not found|permission denied|segmentation fault|killed|` +
		`unable to|refused|denied|mismatch|too many|abort(ed)?)([^\w]|$)|^FAIL|\bFAILED\b|^\s*not ok\b|^✗|^E\s{2,}`)
	// Phrases that use those words for good news, or for flags of a command line.
	harmless = regexp.MustCompile(`(?i)\b(0|no) (errors?|failures?|failed)\b|-W?error\b|errors?[=:] ?0\b|` +
		`--?[\w-]*error[\w-]*[ =]|without errors?`)
)

// stems begin every announcement that failure knows, in lower case. Looking for them first is many times faster than
// the expression, and most lines hold none.
var stems = []string{"err", "fatal", "panic", "exception", "fail", "traceback", "undefined", "assertion", "cannot find",
	"could not", "no such file", "not found", "not ok", "denied", "segmentation", "killed", "unable to", "refused",
	"mismatch", "too many", "abort", "✗", "e  "}

// begins has a bit for each pair of bytes that a stem begins with; stemsOf lists the stems of a pair.
var begins, stemsOf = func() (bits [1 << 16 / 64]uint64, of map[uint16][]string) {
	of = map[uint16][]string{}
	for _, s := range stems {
		p := uint16(s[0])<<8 | uint16(s[1])
		bits[p/64] |= 1 << (p % 64)
		of[p] = append(of[p], s)
	}
	return bits, of
}()

func lower(c byte) byte {
	if c-'A' < 26 {
		return c + 'a' - 'A'
	}
	return c
}

func holdsStem(text string) bool {
	if len(text) < 2 {
		return false
	}
	p := uint16(lower(text[0]))
	for i := 1; i < len(text); i++ {
		p = p<<8 | uint16(lower(text[i]))
		if begins[p/64]&(1<<(p%64)) == 0 {
			continue
		}
		for _, s := range stemsOf[p] {
			if from := i - 1; len(text)-from >= len(s) && strings.EqualFold(text[from:from+len(s)], s) {
				return true
			}
		}
	}
	return false
}

// LooksLikeError reports whether a line of a log announces a failure.
func LooksLikeError(text string) bool {
	if !holdsStem(text) {
		return false
	}
	text = logline.Plain(text)
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

// Says reports whether a text is in the lines that were picked, or in the last ones.
func (c *Collector) Says(text string) bool {
	for _, l := range append(append([]logline.Line(nil), c.picked...), c.tail...) {
		if strings.Contains(l.Text, text) {
			return true
		}
	}
	return false
}
