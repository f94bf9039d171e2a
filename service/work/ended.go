package work

import (
	"context"
	"encoding/json"
	"fmt"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/service/traces"
	"gentlepiston.example/piston/store"
)

// EndedRun is the event that a run is over.
type EndedRun struct {
	Run   record.RunID `json:"run"` // id
	State state.State  `json:"state"`
}

// EndOf is the event as it is recorded.
type EndOf struct {
	Ended *EndedRun `json:"ended"`
}

// TryOver is that a try of a search for the first bad change is over, or that the search is to go on otherwise.
type TryOver struct {
	Bisection record.BisectionID `json:"bisection"`
	Run       record.RunID       `json:"run"` // the try; 0 for none
}

// Kind implements river.JobArgs.
func (TryOver) Kind() string { return "bisection" }

// Broke is that a run has failed whose pipeline wants the first bad change to be found.
type Broke struct {
	Run record.RunID `json:"run"`
}

// Kind implements river.JobArgs.
func (Broke) Kind() string { return "broke" }

// RecordEnd notes that a run is over: for whoever is told of it, and for pipelines that wait for it. For those it is
// planned like a push: in a transaction of its own, and once.
func RecordEnd(ctx context.Context, q ground.Q, run store.Run) error {
	if !run.State.Over() {
		return nil
	}
	err := q.PutOff(ctx, notify.RunOver{Run: run.ID, Reopenings: run.Reopenings},
		traces.Ended{Run: run.ID, Reopenings: run.Reopenings})
	if err != nil {
		return err
	}
	switch {
	case run.Bisection != 0:
		return q.PutOff(ctx, TryOver{Bisection: run.Bisection, Run: run.ID})
	case run.Bisects && run.State == state.Failed:
		if err := q.PutOff(ctx, Broke{Run: run.ID}); err != nil {
			return err
		}
	}
	if !run.Followed {
		return nil
	}
	body, err := json.Marshal(EndOf{&EndedRun{run.ID, run.State}})
	if err != nil {
		return err
	}
	// The id has a space, which no delivery from outside can have.
	id := fmt.Sprintf("ended %d %s %d", run.ID, run.State, run.Reopenings)
	if _, _, err = q.AddPush(ctx, run.ProjectID, id, body); err != nil {
		return err
	}
	return q.Tell(ctx, ground.OfRun(fact.RunOver, run))
}
