package definition

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Severity tells what a finding does to the run.
type Severity string

// An Error stops the run; a Warning is shown and the run goes on.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// Finding is one complaint about a file, with its place and how to mend it.
type Finding struct {
	// Stable name of this kind of finding.
	Code     string   `json:"code"`
	Severity Severity `json:"severity" enum:"error,warning"`
	// Path in the repository.
	File string `json:"file"`
	// From 1; 0 when it concerns the whole file.
	Line int `json:"line"`
	// From 1, in characters; 0 when it concerns the whole line or file.
	Col     int    `json:"col"`
	Message string `json:"message"`
	// What to do.
	Fix string `json:"fix,omitempty"`
	// The offending line as written.
	Excerpt string `json:"excerpt,omitempty"`
}

// String gives file:line:col, the message, the line with a caret below the place, and what to do.
func (f Finding) String() string {
	var b strings.Builder
	b.WriteString(f.File)
	if f.Line > 0 {
		fmt.Fprintf(&b, ":%d", f.Line)
		if f.Col > 0 {
			fmt.Fprintf(&b, ":%d", f.Col)
		}
	}
	fmt.Fprintf(&b, ": %s: %s [%s]", f.Severity, f.Message, f.Code)
	if f.Excerpt != "" {
		gutter := fmt.Sprintf("%5d | ", f.Line)
		fmt.Fprintf(&b, "\n%s%s", gutter, f.Excerpt)
		if f.Col > 0 {
			fmt.Fprintf(&b, "\n%s%s^", strings.Repeat(" ", len(gutter)), caretPad(f.Excerpt, f.Col))
		}
	}
	if f.Fix != "" {
		fmt.Fprintf(&b, "\n        %s", f.Fix)
	}
	return b.String()
}

// caretPad keeps tabs, so that the caret stands under its character whatever the tab width.
func caretPad(line string, col int) string {
	var b strings.Builder
	for i, r := range []rune(line) {
		if i >= col-1 {
			break
		}
		if r == '\t' {
			b.WriteByte('\t')
		} else {
			b.WriteByte(' ')
		}
	}
	return b.String()
}

// HasErrors reports whether any finding stops the run.
func HasErrors(findings []Finding) bool {
	for _, f := range findings {
		if f.Severity == Error {
			return true
		}
	}
	return false
}

// source is a file being checked: it makes findings with places in it.
type source struct {
	file   string
	text   []byte
	starts []int // offset of each line, once it was asked for
}

// finding makes one at this place; the column in bytes is turned into characters.
func (p position) finding(code, message, fix string) Finding {
	f := Finding{Code: code, Severity: Error, File: p.src.file, Line: p.line, Col: p.col, Message: message, Fix: fix}
	f.Excerpt, f.Col = excerpt(p.src.line(p.line), p.col)
	return f
}

// lines are the offsets at which lines begin.
func (s *source) lines() []int {
	if s.starts == nil {
		s.starts = []int{0}
		for i, c := range s.text {
			if c == '\n' {
				s.starts = append(s.starts, i+1)
			}
		}
	}
	return s.starts
}

func (s *source) line(n int) string {
	starts := s.lines()
	if n < 1 || n > len(starts) {
		return ""
	}
	text, _, _ := bytes.Cut(s.text[starts[n-1]:], []byte{'\n'})
	return strings.TrimSuffix(string(text), "\r")
}

// excerptWidth is the most characters of a line that a finding shows.
const excerptWidth = 160

// excerpt cuts a long line to a window around the place and turns a byte column into a character column in it.
func excerpt(line string, byteCol int) (string, int) {
	if byteCol > len(line)+1 {
		byteCol = len(line) + 1
	}
	col := byteCol
	if byteCol > 0 {
		col = utf8.RuneCountInString(line[:byteCol-1]) + 1
	}
	runes := []rune(line)
	if len(runes) <= excerptWidth {
		return line, col
	}
	from := max(0, min(col-excerptWidth/2, len(runes)-excerptWidth))
	return string(runes[from : from+excerptWidth]), max(col-from, 0)
}
