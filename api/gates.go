package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
)

// Gate is a question to people, of a job that waits for their answer.
type Gate struct {
	ID       record.GateID    `json:"id"`
	Project  string           `json:"project"`
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Job      string           `json:"job"`
	Question string           `json:"question"`
	// Who may answer: roles, group:NAME, person:NAME.
	Who []access.Answerer `json:"who"`
	// How many have to say yes.
	Count int `json:"count"`
	// Whoever has started the run may not answer.
	NotStarter bool      `json:"not_starter,omitempty"`
	Asked      time.Time `json:"asked"`
	// When the time to answer is over.
	Until time.Time `json:"until"`
	// What happens then; absent is fail.
	Unanswered string `json:"unanswered,omitempty" enum:"fail,pass,skip"`
	// How it has ended; absent while it is open.
	Outcome string     `json:"outcome,omitempty" enum:"yes,no,unanswered,cancelled"`
	Ended   *time.Time `json:"ended,omitempty"`
	Answers []Answer   `json:"answers"`
	// Why whoever asks may not answer it; absent when they may.
	MayNot string `json:"may_not,omitempty"`
}

// Answer is what somebody has said at a gate.
type Answer struct {
	By      string    `json:"by"`
	Yes     bool      `json:"yes"`
	Comment string    `json:"comment,omitempty"`
	At      time.Time `json:"at"`
}

// GateAnswer is what one says at a gate. A later answer takes the place of one's earlier.
type GateAnswer struct {
	Yes bool `json:"yes"`
	// For whoever looks at it later.
	Comment string `json:"comment,omitempty" maxLength:"2000"`
}

// GatePage is a page of gates, newest first.
type GatePage struct {
	Gates []Gate `json:"gates"`
	// Pass as before to get the following page; absent on the last.
	Next record.GateID `json:"next,omitempty"`
}
