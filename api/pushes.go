package api

import (
	"time"

	"gentlepiston.example/piston/core/state"
)

// PushAccepted says that a push is recorded and will be planned, come what may.
type PushAccepted struct {
	ID      int64     `json:"id"`
	Repeat  bool      `json:"repeat" doc:"It had been received before; nothing more will come of it."`
	Planned bool      `json:"planned" doc:"It was planned before this answer: runs are all that come of it."`
	Runs    []PushRun `json:"runs" doc:"The runs it has started so far."`
	Note    string    `json:"note,omitempty" doc:"Why it is not planned yet."`
}

// PushRun is a run that an event has started.
type PushRun struct {
	Number   int64       `json:"number"`
	Pipeline string      `json:"pipeline"`
	State    state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason   string      `json:"reason,omitempty"`
	Page     string      `json:"page" doc:"Where the console shows it, whole when the service knows its own address."`
}

// PushRef is what an event says of a ref.
type PushRef struct {
	Ref    string `json:"ref"`
	Commit string `json:"commit" doc:"Zeros when the ref was removed."`
}

// Push is a recorded event that may start runs.
type Push struct {
	ID       int64     `json:"id"`
	Kind     string    `json:"kind" enum:"push,proposal,pipeline,schedule"`
	Refs     []PushRef `json:"refs" doc:"The first fifty."`
	About    string    `json:"about,omitempty" doc:"The proposal, the schedule, or what has ended."`
	Received time.Time `json:"received"`
	State    string    `json:"state" enum:"waiting,planned,set-aside" doc:"set-aside: planning it ended the server again and again, or takes more than the service gives; it can be tried again by hand."`
	Tries    int       `json:"tries,omitempty" doc:"How often it could not be planned."`
	Note     string    `json:"note,omitempty" doc:"What came of the last try."`
	Runs     []PushRun `json:"runs"`
}

// PushPage is a page of events, newest first.
type PushPage struct {
	Pushes []Push `json:"pushes"`
	Next   int64  `json:"next,omitempty" doc:"Pass as before to get the following page; absent on the last."`
}
