// Package logdiff tells in what the logs of two runs of a job differ, but for what differs in every run: times, hashes,
// addresses, and names that were made up for the moment.
//
// It promises to come to an end within the time it is given, with an answer that is right and may be rough.
package logdiff

import (
	"time"
	"unicode/utf8"

	"github.com/sergi/go-diff/diffmatchpatch"
)

// MaxLines is how many lines a log has at most that is compared.
const MaxLines = 100_000

// Part is a stretch of both logs, which is the same in both, or differs. From are counted from 0.
type Part struct {
	Same            bool
	WasFrom, WasLen int
	IsFrom, IsLen   int
}

// Parts tells in what two logs differ, of at most MaxLines lines each. When it takes as long as it may, more may be
// said to differ than does.
func Parts(was, is []string, within time.Duration) (parts []Part) {
	runes := map[string]rune{}
	differ := diffmatchpatch.New()
	differ.DiffTimeout = max(within, time.Millisecond)
	diffs := differ.DiffMainRunes(numbered(was, runes), numbered(is, runes), false)
	at := Part{}
	end := func(same bool) {
		if at.WasLen+at.IsLen > 0 {
			at.Same = same
			parts = append(parts, at)
		}
		at = Part{WasFrom: at.WasFrom + at.WasLen, IsFrom: at.IsFrom + at.IsLen}
	}
	for _, d := range diffs {
		n := utf8.RuneCountInString(d.Text)
		switch d.Type {
		case diffmatchpatch.DiffDelete:
			at.WasLen += n
		case diffmatchpatch.DiffInsert:
			at.IsLen += n
		case diffmatchpatch.DiffEqual:
			end(false)
			at.WasLen, at.IsLen = n, n
			end(true)
		}
	}
	end(false)
	return parts
}

// numbered gives each line that counts the same the same character.
func numbered(lines []string, known map[string]rune) []rune {
	out := make([]rune, len(lines))
	for i, l := range lines {
		key := Key(l)
		r, is := known[key]
		if !is {
			r = rune(len(known) + 1)
			if r >= 0xD800 { // characters that stand for none are left out (Unicode 15, 3.8, D71)
				r += 0x800
			}
			known[key] = r
		}
		out[i] = r
	}
	return out
}
