package logdiff

import (
	"slices"
	"strings"

	"gentlepiston.example/piston/core/logline"
)

// longest is how much of a line is looked at, in bytes.
const longest = 2000

// Key is what of a line counts: it without what differs from run to run, which is dates (RFC 3339 and those like it),
// times of the day, spans with their units, addresses, unique ids (RFC 9562), hashes, and what is in folders for a
// while. A number by itself is none of these, since a count that differs is what is looked for.
//
// It reads each byte about once: logs have a hundred thousand lines.
func Key(line string) string {
	line = line[:min(len(line), longest)]
	if strings.IndexByte(line, 0x1b) >= 0 {
		line = logline.Plain(line)
	}
	var out strings.Builder
	out.Grow(len(line))
	gap, before := false, byte(' ')
	for i := 0; i < len(line); {
		c := line[i]
		if c == ' ' || c == '\t' || c == '\r' {
			gap, before = out.Len() > 0, c
			i++
			continue
		}
		if gap {
			out.WriteByte(' ')
			gap = false
		}
		if n := passing(line[i:], before); n > 0 {
			out.WriteByte('#')
			i += n
		} else {
			out.WriteByte(c)
			i++
		}
		before = line[i-1]
	}
	return out.String()
}

// passing is how long what differs from run to run is, at the beginning of a text; 0 when there is nothing of it.
func passing(s string, before byte) int {
	if s[0] == '/' {
		return passingPath(s)
	}
	if isWord(before) || !isHex(s[0]) {
		return 0
	}
	for _, kind := range kinds {
		if n := kind(s); n > 0 && (n == len(s) || !isWord(s[n])) {
			return n
		}
	}
	return 0
}

// kinds are how long each is at the beginning of a text; those that hold another come before it.
var kinds = []func(s string) int{uniqueID, address, date, clock, span, hash}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isHex(c byte) bool   { return isDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' }
func isWord(c byte) bool  { return isDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_' }

// run is how many bytes at the beginning of a text are of a kind.
func run(s string, is func(c byte) bool) (n int) {
	for n < len(s) && is(s[n]) {
		n++
	}
	return n
}

// like is how long a text is as a form is, in which 0 stands for a digit and x for one to the base of 16; 0 when it is
// not like that.
func like(s, form string) int {
	if len(s) < len(form) {
		return 0
	}
	for i := range len(form) {
		switch form[i] {
		case '0':
			if !isDigit(s[i]) {
				return 0
			}
		case 'x':
			if !isHex(s[i]) {
				return 0
			}
		default:
			if s[i] != form[i] {
				return 0
			}
		}
	}
	return len(form)
}

func uniqueID(s string) int { return like(s, "xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx") }

func address(s string) int {
	if !strings.HasPrefix(s, "0x") {
		return 0
	}
	if n := run(s[2:], isHex); n > 0 {
		return 2 + n
	}
	return 0
}

// date is a day, and the time of it where one follows.
func date(s string) int {
	n := like(s, "0000-00-00")
	if n == 0 || n+1 >= len(s) || s[n] != 'T' && s[n] != ' ' {
		return n
	}
	t := clock(s[n+1:])
	if t == 0 {
		return n
	}
	n += 1 + t
	switch zone := s[n:]; {
	case strings.HasPrefix(zone, "Z"):
		return n + 1
	case strings.HasPrefix(zone, "+"), strings.HasPrefix(zone, "-"):
		if far := max(like(zone[1:], "00:00"), like(zone[1:], "0000")); far > 0 {
			return n + 1 + far
		}
	}
	return n
}

// clock is a time of the day, or a span that is written like one.
func clock(s string) int {
	n := run(s, isDigit)
	if n < 1 || n > 2 || like(s[n:], ":00") == 0 {
		return 0
	}
	n += 3
	n += like(s[n:], ":00")
	return n + fraction(s[n:])
}

// fraction is what follows a number's point or comma, with that.
func fraction(s string) int {
	if len(s) < 2 || s[0] != '.' && s[0] != ',' {
		return 0
	}
	if n := run(s[1:], isDigit); n > 0 {
		return 1 + n
	}
	return 0
}

var units = []string{"ns", "us", "µs", "ms", "s", "sec", "secs", "second", "seconds", "m", "min", "minute", "minutes",
	"h", "hour", "hours"}

// span is a number with a unit of time.
func span(s string) int {
	n := run(s, isDigit)
	if n == 0 {
		return 0
	}
	whole := n
	n += fraction(s[n:])
	if n < len(s) && s[n] == ' ' {
		n++
	}
	unit := s[n : n+run(s[n:], func(c byte) bool { return isWord(c) || c >= 0x80 })]
	// What is so many metres high, or has an "h" after it, is none: minutes and hours so written are whole and close.
	if (unit == "m" || unit == "h") && n != whole || !slices.Contains(units, unit) {
		return 0
	}
	return n + len(unit)
}

// hash is a word of seven digits and more to the base of 16, of both kinds.
func hash(s string) int {
	n := run(s, isHex)
	if n < 7 || run(s[:n], isDigit) == n || !strings.ContainsAny(s[:n], "0123456789") {
		return 0
	}
	return n
}

// passingPath is a file in a folder for a while.
func passingPath(s string) int {
	for _, folder := range []string{"/tmp/", "/var/tmp/", "/build/tmp/"} {
		if strings.HasPrefix(s, folder) {
			return run(s, func(c byte) bool { return isWord(c) || strings.IndexByte("/.+-", c) >= 0 })
		}
	}
	return 0
}
