package versionfile

import (
	"bytes"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// text is a file's content, decoded where it is UTF-16, with the way back. What is not UTF-8 is taken as it is: the
// numbers are ASCII in every other encoding in use.
type text struct {
	file   string
	raw    []byte
	s      string // without a byte order mark
	mark   int    // bytes of the mark
	wide   bool   // UTF-16
	big    bool   // whose high byte is first
	binary bool   // a binary property list
	lines  []int  // where each begins, once they are asked for
}

var (
	markUTF8  = []byte{0xEF, 0xBB, 0xBF}
	markBig   = []byte{0xFE, 0xFF}
	markSmall = []byte{0xFF, 0xFE}
)

func decode(file string, raw []byte) *text {
	t := &text{file: file, raw: raw}
	switch {
	case bytes.HasPrefix(raw, []byte("bplist0")):
		t.binary = true
	case bytes.HasPrefix(raw, markUTF8):
		t.mark = 3
	case bytes.HasPrefix(raw, markBig):
		t.mark, t.wide, t.big = 2, true, true
	case bytes.HasPrefix(raw, markSmall):
		t.mark, t.wide = 2, true
	}
	if !t.wide {
		t.s = string(raw[t.mark:])
		return t
	}
	units := make([]uint16, 0, len(raw)/2)
	for i := t.mark; i+1 < len(raw); i += 2 {
		units = append(units, t.unit(raw[i], raw[i+1]))
	}
	t.s = string(utf16.Decode(units))
	return t
}

func (t *text) unit(a, b byte) uint16 {
	if t.big {
		return uint16(a)<<8 | uint16(b)
	}
	return uint16(b)<<8 | uint16(a)
}

// offset is where a byte of the decoded text stands in the file.
func (t *text) offset(i int) int {
	if !t.wide {
		return t.mark + i
	}
	units := 0
	for _, r := range t.s[:i] {
		units += utf16.RuneLen(r)
	}
	return t.mark + 2*units
}

// encode is how the file writes a text of ASCII.
func (t *text) encode(s string) []byte {
	if !t.wide {
		return []byte(s)
	}
	var out []byte
	for i := range len(s) {
		if t.big {
			out = append(out, 0, s[i])
		} else {
			out = append(out, s[i], 0)
		}
	}
	return out
}

// fill completes a place with where it stands.
func (t *text) fill(p Place, start, end int) Place {
	p.File, p.start, p.end = t.file, start, end
	if p.Computed == "" && p.ref == "" {
		p.Value = t.s[start:end]
	}
	if p.Line, p.Col, p.original = t.position(start); len(p.Value) > maxText {
		p.Value, p.Computed = cut(p.Value, 60), "it is longer than any version"
	}
	return p
}

// position gives line and column, from 1, and the line itself.
func (t *text) position(at int) (line, col int, whole string) {
	if t.lines == nil {
		t.lines = []int{0}
		end := byte('\n')
		if !strings.Contains(t.s, "\n") {
			end = '\r'
		}
		for i := range len(t.s) {
			if t.s[i] == end {
				t.lines = append(t.lines, i+1)
			}
		}
	}
	low, high := 0, len(t.lines)
	for high-low > 1 {
		if mid := (low + high) / 2; t.lines[mid] <= at {
			low = mid
		} else {
			high = mid
		}
	}
	start, end := t.lines[low], len(t.s)
	if high < len(t.lines) {
		end = t.lines[high]
	}
	whole = strings.TrimRight(t.s[start:end], "\r\n")
	if len(whole) > 500 {
		whole = strings.ToValidUTF8(whole[:500], "") + "…"
	}
	return low + 1, utf8.RuneCountInString(t.s[start:at]) + 1, strings.ToValidUTF8(whole, "\ufffd")
}

func (t *text) problem(at int, message string) Problem {
	line, col, _ := t.position(min(max(at, 0), len(t.s)))
	return Problem{File: t.file, Line: line, Col: col, Message: message}
}
