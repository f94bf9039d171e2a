package terminal

import (
	"fmt"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/diagnose"
)

// CleanLine makes a log line safe for a terminal: colours may pass, no other control sequence does.
func CleanLine(text string, colour bool) string {
	if !colour {
		text = diagnose.Plain(text)
	}
	return strings.Map(func(r rune) rune {
		if unseen(r) && r != '\t' && (r != '\x1b' || !colour) {
			return -1
		}
		return r
	}, text)
}

// LogLines prints lines with their job's name before them.
func (s *Screen) LogLines(b api.LogBatch) {
	for _, l := range b.Lines {
		s.Line("%s %s", s.In(Faint, fmt.Sprintf("%-10s│", Short(b.Job, 10))), CleanLine(l.Text, s.Colour))
	}
}
