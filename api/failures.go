package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
)

// FailureCause is why something failed, what that means and what to do.
type FailureCause struct {
	// Its name in the catalogue.
	Name  string `json:"name"`
	Title string `json:"title"`
	Means string `json:"means,omitempty"`
	Do    string `json:"do,omitempty"`
	// The project has described it in piston/causes.toml.
	Own bool `json:"own,omitempty"`
	// The line by which it is known.
	Said string `json:"said,omitempty"`
}

// FailureSeen is how often a failure was seen.
type FailureSeen struct {
	// In so many runs.
	Times    int              `json:"times"`
	FirstRun record.RunNumber `json:"first_run"`
	First    time.Time        `json:"first"`
	LastRun  record.RunNumber `json:"last_run"`
	Last     time.Time        `json:"last"`
	// No run of its pipeline and branch has passed since it was seen last.
	Still bool `json:"still,omitempty"`
	// The run with which it went away the last time: the first that passed after it, on the same branch.
	Gone *FailureGone `json:"gone,omitempty"`
}

// FailureGone is a run with which a failure went away.
type FailureGone struct {
	Run     record.RunNumber `json:"run"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
	Author  string           `json:"author,omitempty"`
}

// FailureFilter says which failures a list has.
type FailureFilter struct {
	Contains string `query:"contains" maxLength:"200" doc:"Only with this in what was said, title, job or step"`
	Cause    string `query:"cause" maxLength:"100" doc:"Only of this cause"`
	Skip     int    `query:"skip" minimum:"0" maximum:"1000000" doc:"Leave out so many: next of the page before"`
	Limit    int    `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"At most so many"`
}

// FailurePage is a part of a project's failures, each once, the latest first.
type FailurePage struct {
	Failures []KnownFailure `json:"failures"`
	// How many to leave out for what comes next; 0 when nothing does.
	Next int `json:"next,omitempty"`
}

// KnownFailure is a failure that was seen in one run or several.
type KnownFailure struct {
	FailureSeen
	Pipeline string `json:"pipeline"`
	Job      string `json:"job"`
	Step     string `json:"step,omitempty"`
	// The name of its cause; absent where none is known.
	Cause string `json:"cause,omitempty"`
	Title string `json:"title,omitempty"`
	Said  string `json:"said"`
}
