package terminal

import (
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
)

// PrintJSON writes an answer for programs.
func PrintJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Screen writes for people: with colour on a terminal that wants it, plain elsewhere.
type Screen struct {
	w      io.Writer
	Colour bool
	Person bool // whether there is a terminal
	width  int  // 0 where there is no terminal
}

// NewScreen finds out what is at the other end.
func NewScreen(w io.Writer) *Screen {
	s := &Screen{w: w}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.Person = true
		s.Colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 20 {
			s.width = width
		}
	}
	return s
}

// Line writes one.
func (s *Screen) Line(format string, args ...any) { s.print(fmt.Sprintf(format, args...)) }

// print is the last door before a terminal: much of what is written was a stranger's, and whoever fetched it may have
// forgotten that.
func (s *Screen) print(text string) { fmt.Fprintln(s.w, Safe(text, s.Colour)) }

// Safe leaves of a text what moves nothing in a terminal: lines, and colours if they are wanted.
func Safe(text string, colour bool) string {
	if colour {
		text = logline.Coloured(text)
	} else {
		text = logline.Plain(text)
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\t' && r != '\n' && r != escape {
			return -1
		}
		return r
	}, text)
}

// escape begins a colour.
const escape = '\x1b'

// Complain says to a person what is wrong, beside what a program reads.
func Complain(format string, args ...any) { NewScreen(os.Stderr).Line(format, args...) }

// SGR colours (ECMA-48, 8.3.117).
const (
	Red     = "31"
	Green   = "32"
	Yellow  = "33"
	Magenta = "35" // yellow is hard to read on white
	cyan    = "36"
	Faint   = "2"
	Strong  = "1"
)

func (s *Screen) In(colour, text string) string {
	if !s.Colour || text == "" {
		return text
	}
	return "\x1b[" + colour + "m" + text + "\x1b[0m"
}

// signs go with the words, never instead of them.
var signs = map[state.State]struct{ sign, colour string }{
	state.Queued: {"·", Faint}, state.Running: {"▸", cyan}, state.Passed: {"✓", Green}, state.Failed: {"✗", Red},
	state.Cancelled: {"⊘", Faint}, state.TimedOut: {"◷", Red}, state.Skipped: {"−", Faint},
	state.Reused: {"↺", Green}, state.Waiting: {"?", Yellow},
}

func (s *Screen) State(v state.State) string {
	m := signs[v]
	return s.In(m.colour, m.sign+" "+string(v))
}

// Table aligns columns; cells may hold colour. On a terminal the last column is cut to its width.
func (s *Screen) Table(head []string, rows [][]string) {
	widths := make([]int, len(head))
	all := append([][]string{head}, rows...)
	for _, row := range all {
		for i, cell := range row {
			widths[i] = max(widths[i], visible(cell))
		}
	}
	for n, row := range all {
		var b strings.Builder
		for i, cell := range row {
			if n == 0 {
				cell = s.In(Faint, cell)
			}
			if left := s.width - visible(b.String()); i == len(row)-1 && s.width > 0 && visible(cell) > left {
				cell = cutVisible(cell, max(left, 4))
			}
			b.WriteString(cell)
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-visible(cell)+2))
			}
		}
		s.print(strings.TrimRight(b.String(), " "))
	}
}

// glyphs yields the runes of a text, and of each whether it shows: those that set colours do not.
func glyphs(text string) iter.Seq2[rune, bool] {
	return func(yield func(rune, bool) bool) {
		within := false
		for _, r := range text {
			within = within || r == escape
			if !yield(r, !within) {
				return
			}
			within = within && !unicode.IsLetter(r)
		}
	}
}

// visible is the width of a text without its colours.
func visible(text string) (n int) {
	for _, shows := range glyphs(text) {
		if shows {
			n++
		}
	}
	return n
}

// cutVisible cuts a text that may hold colours to a width, and keeps the colours.
func cutVisible(text string, most int) string {
	var b strings.Builder
	n := 0
	for r, shows := range glyphs(text) {
		if shows {
			n++
		}
		switch {
		case !shows || n < most:
			b.WriteRune(r)
		case n == most:
			b.WriteRune('…')
		}
	}
	return b.String()
}

// unseen tells whether a character moves in a terminal instead of being shown, or turns what follows around (Unicode
// Standard Annex 9, 2).
func unseen(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) }

// Short cuts a text and keeps control characters from reaching the terminal: commit messages and branch names come
// from strangers.
func Short(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if unseen(r) {
			return '\uFFFD'
		}
		return r
	}, text)
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most-1]) + "…"
}

// Span writes milliseconds for people.
func Span(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", ms)
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

func Took(r api.Run) string {
	if r.Finished == nil {
		return ""
	}
	return Span(r.Finished.Sub(r.Queued).Milliseconds())
}

func Ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02")
}

// Where names what a run was of: branch or tag, and the commit.
func Where(r api.Run) string {
	ref := r.Branch
	switch {
	case r.Tag != "":
		ref = "tag " + r.Tag
	case r.Proposal != "":
		ref = "proposal " + r.Proposal + " into " + r.Target
	}
	ref = Short(ref, 40)
	if r.Trigger == plan.ByBisection {
		ref += fmt.Sprintf(", tried for run %d", r.CausedBy)
	}
	return strings.TrimSpace(fmt.Sprintf("%s %.7s", ref, r.Commit))
}

// Spark draws values as a line of bars, each as high as its share of the highest; a dot is none.
func Spark(values []int64) string {
	bars := []rune("▁▂▃▄▅▆▇█")
	most := int64(1)
	for _, v := range values {
		most = max(most, v)
	}
	line := make([]rune, len(values))
	for i, v := range values {
		if line[i] = bars[max(0, v)*int64(len(bars)-1)/most]; v <= 0 {
			line[i] = '·'
		}
	}
	return string(line)
}
