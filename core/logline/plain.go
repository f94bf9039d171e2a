package logline

import (
	"bytes"
	"strings"
)

// escape begins a control sequence (ECMA-48, section 5.3).
const escape = '\x1b'

// Plain is a line's text without colours and other control sequences, as people read it.
func Plain(text string) string { return bare(text, false) }

// Coloured is a line's text with its colours (ECMA-48, section 8.3.117) and no other control sequence: a step may print
// what clears a screen, or writes into a clipboard.
func Coloured(text string) string { return bare(text, true) }

// plain is Plain of a text of many lines; it is the text itself where there is no sequence.
func plain(text []byte) []byte {
	if bytes.IndexByte(text, escape) < 0 {
		return text
	}
	return []byte(Plain(string(text)))
}

// bare leaves out control sequences, but for colours if they are wanted.
func bare(text string, colours bool) string {
	at := strings.IndexByte(text, escape)
	if at < 0 {
		return text
	}
	var b strings.Builder
	for ; at >= 0; at = strings.IndexByte(text, escape) {
		n, colour := sequence(text[at:])
		b.WriteString(text[:at])
		if colour && colours {
			b.WriteString(text[at : at+n])
		}
		text = text[at+n:]
	}
	b.WriteString(text)
	return b.String()
}

// sequence is how long the control sequence is that a text begins with, which ends with its line at the latest; and
// whether it is a colour.
func sequence(text string) (n int, colour bool) {
	if len(text) == 1 {
		return 1, false
	}
	switch c := text[1]; {
	case c == '[':
		return controlSequence(text)
	case strings.IndexByte("]PX^_", c) >= 0: // section 5.6: a string, until its end
		return controlString(text), false
	case c >= ' ' && c <= '/': // ISO/IEC 2022: a set of characters, and the like
		end := 1 + span(text[1:], ' ', '/')
		return end + min(1, span(text[end:], '0', '~')), false
	case c >= '0' && c <= '~':
		return 2, false
	}
	return 1, false
}

// controlSequence is one of section 5.4: parameters, intermediate bytes, and a final one.
func controlSequence(text string) (n int, colour bool) {
	parameters := span(text[2:], '0', '?')
	numbers := span(text[2:], '0', ';')
	n = 2 + parameters
	between := span(text[n:], ' ', '/')
	n += between
	if span(text[n:], '@', '~') == 0 {
		return n, false // it is cut off
	}
	return n + 1, text[n] == 'm' && between == 0 && numbers == parameters
}

// controlString ends with ST, or with BEL, as terminals have it. One without an end is only begun; none holds another,
// so that the time for a line is linear in its length.
func controlString(text string) int {
	end := 2 + strings.IndexAny(text[2:], "\a\n\x1b")
	switch {
	case end < 2:
		return 2
	case text[end] == '\a':
		return end + 1
	case strings.HasPrefix(text[end:], "\x1b\\"):
		return end + 2
	}
	return 2
}

// span is how many bytes from one to another a text begins with.
func span(text string, from, to byte) (n int) {
	for n < len(text) && text[n] >= from && text[n] <= to {
		n++
	}
	return n
}
