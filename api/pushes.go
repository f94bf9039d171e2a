package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// PushAccepted says that a push is recorded and will be planned, come what may.
type PushAccepted struct {
	ID record.PushID `json:"id"`
	// It had been received before; nothing more will come of it.
	Repeat bool `json:"repeat"`
	// It was planned before this answer: runs are all that come of it.
	Planned bool `json:"planned"`
	// The runs it has started so far.
	Runs []PushRun `json:"runs"`
	// Why it is not planned yet.
	Note string `json:"note,omitempty"`
}

// PushRun is a run that an event has started.
type PushRun struct {
	Number   record.RunNumber `json:"number"`
	Pipeline string           `json:"pipeline"`
	State    state.State      `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason   string           `json:"reason,omitempty"`
	// Where the console shows it, whole when the service knows its own address.
	Page string `json:"page"`
}

// PushRef is what an event says of a ref.
type PushRef struct {
	Ref string `json:"ref"`
	// Zeros when the ref was removed.
	Commit string `json:"commit"`
}

// Push is a recorded event that may start runs.
type Push struct {
	ID   record.PushID `json:"id"`
	Kind string        `json:"kind" enum:"push,proposal,pipeline,schedule"`
	// The first fifty.
	Refs []PushRef `json:"refs"`
	// The proposal, the schedule, or what has ended.
	About    string    `json:"about,omitempty"`
	Received time.Time `json:"received"`
	// set-aside: planning it ended the server again and again, or takes more than the service gives; it can be tried
	// again by hand.
	State string `json:"state" enum:"waiting,planned,set-aside"`
	// How often it could not be planned.
	Tries int `json:"tries,omitempty"`
	// What came of the last try.
	Note string    `json:"note,omitempty"`
	Runs []PushRun `json:"runs"`
}

// PushPage is a page of events, newest first.
type PushPage struct {
	Pushes []Push `json:"pushes"`
	// Pass as before to get the following page; absent on the last.
	Next record.PushID `json:"next,omitempty"`
}
