package logline

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strings"
)

// Finder finds text in lines, in capitals or not, or a pattern (RE2, whose time is linear in the text).
type Finder struct {
	low, high []byte // the text in small and in capital letters
	rare      int    // index of the character of it that is looked for first
	pattern   *regexp.Regexp
	byLine    bool // where a line begins and ends matters to the pattern
}

// longFinder bounds what is looked for, in bytes.
const longFinder = 500

// often has the characters that are most frequent in logs, the most frequent first: what is not in it is rare.
const often = " etaoinsrlcdpmu0h1.:/-_g2fby3="

// NewFinder makes one of a text, or of a pattern.
func NewFinder(text string, pattern bool) (*Finder, error) {
	if text == "" || len(text) > longFinder || strings.ContainsAny(text, "\n\x00") {
		return nil, fmt.Errorf("what is looked for has 1 to %d characters, in one line", longFinder)
	}
	if pattern {
		e, err := regexp.Compile(text)
		if err != nil {
			return nil, err
		}
		if e.MatchString("") {
			return nil, fmt.Errorf("the pattern %.80q fits every line: say more of it", text)
		}
		return &Finder{pattern: e, byLine: true}, nil
	}
	f := &Finder{low: []byte(strings.ToLower(text)), high: []byte(strings.ToUpper(text))}
	if len(f.low) != len(f.high) || len(f.low) != len(text) || !ascii(text) {
		// Letters whose other form has another length, or more than one.
		f.pattern = regexp.MustCompile("(?i)" + regexp.QuoteMeta(text))
		return f, nil
	}
	best := -2
	for i, c := range f.low {
		rank := strings.IndexByte(often, c)
		if rank < 0 {
			rank = len(often)
		}
		if rank > best {
			best, f.rare = rank, i
		}
	}
	return f, nil
}

func ascii(text string) bool {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return false
		}
	}
	return true
}

// In reports whether a line's text holds it, as people read that: colours part no words.
func (f *Finder) In(text string) bool { return f.next(plain([]byte(text))) >= 0 }

// next finds where it begins; -1 where it is not.
func (f *Finder) next(text []byte) int {
	if f.pattern != nil {
		if at := f.pattern.FindIndex(text); at != nil {
			return at[0]
		}
		return -1
	}
	low, high := f.low[f.rare], f.high[f.rare]
	nextLow, nextHigh := index(text, 0, low), -1
	if high != low {
		nextHigh = index(text, 0, high)
	}
	for nextLow >= 0 || nextHigh >= 0 {
		at := nextLow
		if at < 0 || nextHigh >= 0 && nextHigh < at {
			at = nextHigh
		}
		if from := at - f.rare; from >= 0 && from+len(f.low) <= len(text) && f.is(text[from:from+len(f.low)]) {
			return from
		}
		if at == nextLow {
			nextLow = index(text, at+1, low)
		} else {
			nextHigh = index(text, at+1, high)
		}
	}
	return -1
}

func index(text []byte, from int, c byte) int {
	if i := bytes.IndexByte(text[from:], c); i >= 0 {
		return from + i
	}
	return -1
}

func (f *Finder) is(text []byte) bool {
	for i, c := range text {
		if c != f.low[i] && c != f.high[i] {
			return false
		}
	}
	return true
}

// SearchFile finds up to limit lines of a finished log of size bytes, from line number from on (from 1). More says from
// which line to go on; 0 when the log was looked through. goOn is asked between frames whether there is time left.
func SearchFile(r io.ReaderAt, size, from int64, f *Finder, limit int, goOn func() bool) (found []Line, more int64,
	err error) {
	err = frames(r, size, from, func(first int64, text []byte) (bool, error) {
		if !goOn() {
			more = max(first, from)
			return false, nil
		}
		bare := plain(text)
		n := first // of the line that begins at begin in bare, at raw in text
		begin, raw := 0, 0
		for begin < len(bare) {
			at := 0
			if !f.byLine {
				at = f.next(bare[begin:])
			}
			if at < 0 {
				break
			}
			hit := begin + at
			start := bytes.LastIndexByte(bare[:hit], '\n') + 1
			passed := bytes.Count(bare[begin:start], []byte{'\n'})
			n += int64(passed)
			raw += linesEnd(text[raw:], passed)
			end := bytes.IndexByte(bare[hit:], '\n')
			if end < 0 {
				return false, fmt.Errorf("log line %d is cut off", n)
			}
			begin = hit + end + 1
			length := linesEnd(text[raw:], 1)
			line, err := Decode(n, text[raw:raw+length])
			if err != nil {
				return false, err
			}
			// A hit before the line's text is of its number or time.
			if n >= from && f.In(line[0].Text) {
				if len(found) == limit {
					more = n
					return false, nil
				}
				found = append(found, line[0])
			}
			n++
			raw += length
		}
		return true, nil
	})
	return found, more, err
}

// linesEnd is where so many lines end that a text begins with.
func linesEnd(text []byte, lines int) (end int) {
	for range lines {
		end += bytes.IndexByte(text[end:], '\n') + 1
	}
	return end
}
