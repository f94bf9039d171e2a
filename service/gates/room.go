// Package gates is the room of what people are asked: a job that waits holds no machine, and costs nothing until
// somebody answers or its time is over. Who may answer is judged when they answer, and once more whenever it is
// counted: the word of somebody who has lost their role counts no longer.
package gates

import (
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/work"
)

// Gates is the room of what people are asked.
type Gates struct {
	*ground.Ground
	work    *work.Work
	letters *letters.Letters
}

// New makes it.
func New(g *ground.Ground, w *work.Work, l *letters.Letters) *Gates {
	s := &Gates{g, w, l}
	ground.Does(g, s.due)
	ground.Does(g, s.tell)
	return s
}
