package terminal

import (
	"fmt"
	"strings"

	"gentlepiston.example/piston/api"
)

// CleanLine makes a log line safe for a terminal: colours may pass, and end with it; no other control sequence does.
func CleanLine(text string, colour bool) string {
	text = strings.Map(func(r rune) rune {
		if unseen(r) && r != '\t' && r != escape {
			return -1
		}
		return r
	}, Safe(text, colour))
	if strings.ContainsRune(text, escape) {
		text += "\x1b[0m"
	}
	return text
}

// LogLines prints lines with their job's name before them.
func (s *Screen) LogLines(b api.LogBatch) {
	for _, l := range b.Lines {
		s.Line("%s %s", s.In(Faint, fmt.Sprintf("%-10s│", Short(b.Job, 10))), CleanLine(l.Text, s.Colour))
	}
}
