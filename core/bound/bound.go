// Package bound looks at texts that strangers wrote before a parser does: how deep they nest, and how much is in them.
// A parser that calls itself for every level ends the process when a text is deep enough, and nothing can catch that.
//
// It promises never to find less than a parser would meet, in time proportional to the text and no memory. It may find
// more in a text that is malformed, which nobody misses.
package bound

// Measure is what a text comes to.
type Measure struct {
	Depth  int // the most levels that are open at a time
	Values int // no fewer than the values and keys in it
}

// TOML measures a document (TOML 1.0.0): arrays and inline tables within each other, and the parts of dotted keys.
func TOML(text []byte) (m Measure) {
	open, dots := 0, 0
	deepen := func(n int) { m.Depth = max(m.Depth, n) }
	for i := 0; i < len(text); {
		switch c := text[i]; c {
		case '#':
			for i < len(text) && text[i] != '\n' {
				i++
			}
			continue
		case '"', '\'':
			i += quoted(text[i:])
			continue
		case '[', '{':
			open++
			m.Values++
			deepen(open + dots)
		case ']', '}':
			open = max(0, open-1)
		case '.':
			dots++
			deepen(open + dots)
		case '=', ',':
			m.Values++
			dots = 0
		case '\n':
			dots = 0
		}
		i++
	}
	return m
}

// quoted is the length of the quoted text at the beginning of a text.
func quoted(text []byte) int {
	quote := text[0]
	if len(text) >= 3 && text[1] == quote && text[2] == quote {
		for i := 3; i < len(text); i++ {
			switch {
			case text[i] == '\\' && quote == '"':
				i++
			case text[i] == quote && i+2 < len(text) && text[i+1] == quote && text[i+2] == quote:
				for i += 3; i < len(text) && text[i] == quote; i++ { // up to two more belong to the text
				}
				return i
			}
		}
		return len(text)
	}
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quote == '"':
			i++
		case text[i] == quote:
			return i + 1
		case text[i] == '\n':
			return i // malformed: it ends with its line
		}
	}
	return len(text)
}

// Shell measures how deep a script may nest (POSIX.1-2017, Shell Command Language, 2.10): brackets and back quotes that
// are open at a time, wherever they stand. Quotes are not looked at: what is open within one may be a command.
func Shell(script string) (depth int) {
	open, ticks := 0, 0
	for i := range len(script) {
		switch script[i] {
		case '(', '{', '[':
			open++
		case ')', '}', ']':
			open = max(0, open-1)
		case '`':
			ticks++ // nested ones are behind backslashes; each might open
		}
		depth = max(depth, open+ticks/2)
	}
	return depth
}
