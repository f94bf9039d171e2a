package terminal

import (
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
)

// GateWord tells how a gate stands, in a few words.
func GateWord(g api.Gate) string {
	yes := 0
	for _, a := range g.Answers {
		if a.Yes {
			yes++
		}
	}
	switch g.Outcome {
	case "yes":
		return "passed, " + by(g, true)
	case "no":
		return "ended, no " + by(g, false)
	case "unanswered":
		return fmt.Sprintf("its time is over, %d of %d said yes", yes, g.Count)
	case "cancelled":
		return "its run was stopped"
	}
	return fmt.Sprintf("waits, %d of %d said yes, until %s", yes, g.Count, g.Until.Local().Format("2 January 15:04"))
}

// by lists who has said yes, or no.
func by(g api.Gate, yes bool) string {
	var names []string
	for _, a := range g.Answers {
		if a.Yes == yes {
			names = append(names, a.By)
		}
	}
	return "by " + strings.Join(names, ", ")
}

// Asked prints that a run waits for people, and how to answer.
func (s *Screen) Asked(g api.Gate) {
	s.Line("%s  %s", s.State(state.Waiting), s.In(Strong, Short(g.Question, 200)))
	s.gate(g)
}

// gate prints what people are asked, and what they have said.
func (s *Screen) gate(g api.Gate) {
	s.Line("     %s", s.In(Faint, Short(GateWord(g), 160)))
	for _, a := range g.Answers {
		said := "no"
		if a.Yes {
			said = "yes"
		}
		s.Line("     %s", strings.TrimRight(fmt.Sprintf("%-4s %s, %s  %s", said, Short(a.By, 30),
			a.At.Local().Format(time.DateTime), Short(a.Comment, 120)), " "))
	}
	if g.Outcome == "" && g.MayNot == "" {
		s.Line("     %s", fmt.Sprintf("Answer: piston answer %s %d yes, or no", g.Project, g.Run))
	} else if g.Outcome == "" {
		s.Line("     %s", s.In(Faint, Short(g.MayNot, 160)))
	}
}
