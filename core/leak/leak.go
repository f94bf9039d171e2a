// Package leak finds values in texts that look like real passwords, tokens or keys.
package leak

import (
	"iter"
	"math"
	"regexp"
	"strings"
	"unicode"
)

// named recognises, before a value, a secret's name and what gives it the value.
var named = regexp.MustCompile(`(?i)(?:passw(?:or)?d|secret|token|api[_-]?key|access[_-]?key|private[_-]?key|` +
	`credential)[\w.-]*["']?\]?\s*(?::=|=>|[:=])\s*$`)

// Find gives the place of the first value that stands under a secret's name, and looks as a generator makes them.
func Find(text string) (at int, found bool) {
	for start, end := range quoted(text) {
		if random(text[start:end]) && named.MatchString(text[max(0, start-nameAhead):start-1]) {
			return start, true
		}
	}
	return 0, false
}

// How long a value is that is looked at, and how far ahead of it its name may begin.
const leastValue, mostValue, nameAhead = 16, 200, 100

// quoted visits the places of texts between quotes that a generator may have made. Few are, so what comes after may be
// slow; a regular expression for all of it took a second for a few megabytes.
func quoted(text string) iter.Seq2[int, int] {
	return func(visit func(start, end int) bool) {
		for at := 0; ; {
			i := strings.IndexAny(text[at:], `"'`)
			if i < 0 {
				return
			}
			quote, start := text[at+i], at+i+1
			end := start
			for end < len(text) && end-start <= mostValue && plain(text[end]) {
				end++
			}
			if at = start; end < len(text) && text[end] == quote && end-start >= leastValue && !visit(start, end) {
				return
			}
		}
	}
}

// plain bytes are those that keys and tokens are written with.
func plain(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || strings.IndexByte("+/=_.-", b) >= 0
}

// leastEntropy is in bits for each character (Shannon, 1948): words and names have less, what a generator makes has
// more.
const leastEntropy = 3.3

// random tells what a generator made from names and words: it changes between letters, capitals and digits all the
// time.
func random(value string) bool {
	changes, last, counts := 0, 0, map[rune]float64{}
	for _, r := range value {
		class := 0
		switch {
		case unicode.IsDigit(r):
			class = 1
		case unicode.IsUpper(r):
			class = 2
		case unicode.IsLower(r):
			class = 3
		}
		if class != 0 && last != 0 && class != last {
			changes++
		}
		last = class
		counts[r]++
	}
	n, entropy, digits := float64(len(value)), 0.0, false
	for r, c := range counts {
		entropy -= c / n * math.Log2(c/n)
		digits = digits || unicode.IsDigit(r)
	}
	return digits && entropy >= leastEntropy && changes >= len(value)/5
}
