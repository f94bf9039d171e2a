package api

import (
	"time"

	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/record"
)

// NewBisection says for which job of a failed run the first bad change is looked for.
type NewBisection struct {
	// The job; not needed when one has failed.
	Job string `json:"job,omitempty" maxLength:"400"`
}

// BisectionState says how a search for the first bad change stands.
type BisectionState string

// The states of a search.
const (
	BisectionSearching BisectionState = "searching"
	BisectionFound     BisectionState = "found"   // it is known which change it is
	BisectionUnclear   BisectionState = "unclear" // it is one of several: those between could not be judged
	BisectionChance    BisectionState = "chance"  // the failed job passed when it was tried again: no change is to blame
	BisectionStopped   BisectionState = "stopped"
)

// Bisection is a search for the first change with which a job fails: it is run at changes between, by halves, on
// machines that nobody else wants.
type Bisection struct {
	Run   record.RunNumber `json:"run"`
	Job   string           `json:"job"`
	State BisectionState   `json:"state"`
	// Who has begun it; "" the pipeline itself.
	By    string     `json:"by,omitempty"`
	Begun time.Time  `json:"begun"`
	Ended *time.Time `json:"ended,omitempty"`
	// The last run that passed.
	Good record.RunNumber `json:"good"`
	// How many changes lie between that one and the failed run.
	Among int `json:"among"`
	// Those of which one is to blame, in their order, at most 20 of them; one when it is known.
	Suspects []CommitNote `json:"suspects"`
	// How many suspects there are.
	Left int `json:"left"`
	// What was tried, in the order in which it was.
	Tries []BisectionTry `json:"tries"`
	// How many tries there are at most to come, if each can be judged.
	Most int `json:"most"`
	// Why it was stopped.
	Why string `json:"why,omitempty"`
}

// BisectionTry is the try of one change.
type BisectionTry struct {
	CommitNote
	// The run in which it was tried; none when it could not be.
	Run record.RunNumber `json:"run,omitempty"`
	// How it went: passed, failed as the run did, or unclear; none while it is not over.
	Verdict bisect.Verdict `json:"verdict,omitempty" enum:"passed,failed,unclear"`
	Why     string         `json:"why,omitempty"`
}
