package versionfile

import "strings"

// token is a piece of a build script in Groovy or Kotlin.
type token struct {
	kind       byte // w word, n number, s text, p anything else, l end of a line or statement
	start, end int  // of what stands between its quotes, for a text
	text       string
	parts      bool // a text with values put in
}

// tokens takes a build script apart (Groovy Language Documentation, Syntax; Kotlin language specification, Grammar).
// Comments are left out. It never fails: what is no token it knows is one character.
func tokens(s string) (list []token) {
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c == '\n' || c == ';' || c == '\r':
			if n := len(list); n > 0 && list[n-1].kind != 'l' {
				list = append(list, token{kind: 'l', start: i, end: i + 1})
			}
			i++
		case c == ' ' || c == '\t' || c == '\f':
			i++
		case strings.HasPrefix(s[i:], "//"):
			i += lineEnd(s[i:])
		case strings.HasPrefix(s[i:], "/*"):
			n := strings.Index(s[i+2:], "*/")
			if n < 0 {
				return list
			}
			i += n + 4
		case c == '"' || c == '\'':
			var t token
			t, i = quoted(s, i)
			list = append(list, t)
		case isWord(c):
			n := i
			for i < len(s) && (isWord(s[i]) || s[i] >= '0' && s[i] <= '9') {
				i++
			}
			list = append(list, token{kind: 'w', start: n, end: i, text: s[n:i]})
		case c >= '0' && c <= '9':
			n := i
			for i < len(s) && (s[i] >= '0' && s[i] <= '9' || s[i] == '_') {
				i++
			}
			list = append(list, token{kind: 'n', start: n, end: i, text: s[n:i]})
		default:
			list = append(list, token{kind: 'p', start: i, end: i + 1, text: s[i : i+1]})
			i++
		}
	}
	return list
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func lineEnd(s string) int {
	if n := strings.IndexAny(s, "\r\n"); n >= 0 {
		return n
	}
	return len(s)
}

// quoted reads a text from its first quote on. Within ${ } there may be texts again; how deep is counted, not stacked.
func quoted(s string, i int) (token, int) {
	quote := s[i : i+1]
	if strings.HasPrefix(s[i:], strings.Repeat(quote, 3)) {
		quote = strings.Repeat(quote, 3)
	}
	start := i + len(quote)
	t := token{kind: 's', start: start}
	fills := quote[0] == '"'
	for i = start; i < len(s); {
		switch {
		case s[i] == '\\':
			i += 2
		case strings.HasPrefix(s[i:], quote):
			t.end, t.text = i, s[start:i]
			return t, i + len(quote)
		case fills && strings.HasPrefix(s[i:], "${"):
			t.parts = true
			i = filled(s, i+2)
		case fills && s[i] == '$' && i+1 < len(s) && isWord(s[i+1]):
			t.parts = true
			i++
		case len(quote) == 1 && s[i] == '\n': // it is not closed: the line's end ends it
			t.end, t.text = i, s[start:i]
			return t, i
		default:
			i++
		}
	}
	t.end, t.text = len(s), s[start:]
	return t, len(s)
}

// filled finds the end of what stands within ${ }.
func filled(s string, i int) int {
	for depth := 1; i < len(s); i++ {
		switch s[i] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return i + 1
			}
		case '\n':
			return i
		}
	}
	return i
}
