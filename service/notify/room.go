// Package notify is the room of being told: what happens is put off in its transaction, and afterwards told to the
// people and programs that want to hear of it. Each is told of a thing once: what is written for them has a key that
// says what it is about.
package notify

import (
	"time"

	"github.com/riverqueue/river"

	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/vault"
)

// Notify is the room of being told.
type Notify struct {
	*ground.Ground
	vault   *vault.Vault
	letters *letters.Letters
}

// New makes it.
func New(g *ground.Ground, v *vault.Vault, l *letters.Letters) *Notify {
	s := &Notify{g, v, l}
	ground.Does(g, s.runOver)
	ground.Does(g, s.happened)
	ground.Does(g, s.deliver)
	return s
}

// Background starts its loops.
func (s *Notify) Background() {
	s.OneOfAll(ground.Upkeep{What: "forgetting old messages", Every: time.Hour, Do: s.forget})
}

// RunOver is the news that a run is over.
type RunOver struct {
	Run        record.RunID `json:"run"`
	Reopenings int          `json:"reopenings"` // how often it was opened again: each end is news of its own
}

// Kind implements river.JobArgs.
func (RunOver) Kind() string { return "news-run" }

// Happened is other news of a project.
type Happened struct {
	Project record.ProjectID `json:"project"`
	What    news.Kind        `json:"what"`
	Key     string           `json:"key"`     // says what it is about
	Subject string           `json:"subject"` // in a line
	Path    string           `json:"path"`    // of its page
	Data    map[string]any   `json:"data"`
	Mine    []string         `json:"mine,omitempty"` // whose it is, by name
}

// Kind implements river.JobArgs.
func (Happened) Kind() string { return "news" }

// messageDue is a message that is to be sent.
type messageDue struct {
	Message record.MessageID `json:"message"`
}

// Kind implements river.JobArgs.
func (messageDue) Kind() string { return "message" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (messageDue) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: ground.Hooks} }
