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
func Parts(was, is []string, within time.Duration) []Part {
	known := map[string]rune{}
	w, i := numbered(was, known), numbered(is, known)
	// What has no like in the other differs, whatever else does: only the rest is worth a search, and that is quick where
	// the logs have little in common.
	fromW, fromI := alike(w, i), alike(i, w)
	differ := diffmatchpatch.New()
	differ.DiffTimeout = max(within, time.Millisecond)
	out := gathered{}
	a, b := 0, 0
	for _, d := range differ.DiffMainRunes(at(w, fromW), at(i, fromI), false) {
		n := utf8.RuneCountInString(d.Text)
		switch d.Type {
		case diffmatchpatch.DiffDelete:
			a += n
		case diffmatchpatch.DiffInsert:
			b += n
		case diffmatchpatch.DiffEqual:
			for ; n > 0; n-- {
				out.same(fromW[a], fromI[b])
				a, b = a+1, b+1
			}
		}
	}
	out.differs(len(was), len(is))
	return out.parts
}

// gathered are parts, up to a line of either log.
type gathered struct {
	parts   []Part
	was, is int
}

// same takes in a pair of lines, and what is before them.
func (g *gathered) same(was, is int) {
	g.differs(was, is)
	if n := len(g.parts); n == 0 || !g.parts[n-1].Same {
		g.parts = append(g.parts, Part{Same: true, WasFrom: was, IsFrom: is})
	}
	last := &g.parts[len(g.parts)-1]
	last.WasLen, last.IsLen = last.WasLen+1, last.IsLen+1
	g.was, g.is = was+1, is+1
}

// differs takes in what is before these lines.
func (g *gathered) differs(was, is int) {
	if p := (Part{WasFrom: g.was, WasLen: was - g.was, IsFrom: g.is, IsLen: is - g.is}); p.WasLen+p.IsLen > 0 {
		g.parts = append(g.parts, p)
	}
	g.was, g.is = was, is
}

// alike are the places of what the other has, too.
func alike(lines, other []rune) (places []int) {
	has := make(map[rune]bool, len(other))
	for _, r := range other {
		has[r] = true
	}
	for i, r := range lines {
		if has[r] {
			places = append(places, i)
		}
	}
	return places
}

func at(lines []rune, places []int) []rune {
	out := make([]rune, len(places))
	for i, p := range places {
		out[i] = lines[p]
	}
	return out
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
