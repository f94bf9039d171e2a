// Package plain cleans what strangers write, before it is kept and shown in pages, terminals and mails.
package plain

import (
	"strings"
	"unicode"
)

// zeroWidthJoiner makes one picture of several (Unicode, emoji sequences).
const zeroWidthJoiner = '\u200d'

// Text is a text without what is not seen: control characters but line ends, and what turns a line around, hides a part
// of it, or means nothing. A tab is a space. What is no UTF-8 becomes U+FFFD.
func Text(text string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if r == '\n' || r == zeroWidthJoiner || !unicode.In(r, unicode.Cc, unicode.Cf, unicode.Co, unicode.Cs) {
			return r
		}
		return -1
	}, strings.ToValidUTF8(text, "\uFFFD")))
}

// Line is such a text on one line.
func Line(text string) string { return strings.Join(strings.Fields(Text(text)), " ") }
