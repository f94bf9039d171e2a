// Package state names the states of a run, a job and a step.
//
// The words are part of the API, the database and the console; a new state is a change to all three.
package state

// State is where a run, a job, an attempt or a step stands.
type State string

// The states. Reused applies to steps only; Waiting is for a person to act.
const (
	Queued    State = "queued"
	Running   State = "running"
	Passed    State = "passed"
	Failed    State = "failed"
	Cancelled State = "cancelled"
	TimedOut  State = "timed-out"
	Skipped   State = "skipped"
	Reused    State = "reused"
	Waiting   State = "waiting"
)

// Over reports whether nothing more will happen to what is in this state.
func (s State) Over() bool {
	switch s {
	case Queued, Running, Waiting:
		return false
	}
	return true
}

// Good reports whether work that depends on what is in this state may go on.
func (s State) Good() bool { return s == Passed || s == Reused }

// Worse returns whichever of two ended states a parent must report.
// A failure outranks a time-out, which outranks a cancellation; skipped never worsens anything.
func Worse(a, b State) State {
	if severity[b] > severity[a] {
		return b
	}
	return a
}

var severity = map[State]int{Passed: 1, Reused: 1, Skipped: 1, Cancelled: 2, TimedOut: 3, Failed: 4}
