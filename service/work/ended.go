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

// RecordEnd notes that a run is over: for whoever is told of it, and for pipelines that wait for it. For those it is
// planned like a push: in a transaction of its own, and once.
func RecordEnd(ctx context.Context, q ground.Q, run store.Run) error {
	if !run.State.Over() {
		return nil
	}
	err := q.PutOff(ctx, notify.RunOver{Run: run.ID, Reopenings: run.Reopenings},
		traces.Ended{Run: run.ID, Reopenings: run.Reopenings})
	if err != nil || !run.Followed {
		return err
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
