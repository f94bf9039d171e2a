package work

import (
	"context"
	"errors"
	"fmt"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// A run with many fewer test cases than the last that passed is green and wrong: a filter, a folder or a condition lost
// them. fewerBy is how many must be missing, and fewerOf what share of them, in per cent, before that is told.
const (
	fewerBy = 3
	fewerOf = 20
)

// noteFewerTests warns on a run that has passed with many fewer test cases than the one before.
func noteFewerTests(ctx context.Context, q ground.Q, run store.Run) error {
	last, err := q.LastPassed(ctx, run)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	counts, err := q.TestCases(ctx, []record.RunID{last.ID, run.ID})
	if err != nil {
		return err
	}
	was, is := counts[last.ID], counts[run.ID]
	if was-is < fewerBy || (was-is)*100 < was*fewerOf {
		return nil
	}
	file := definition.Folder + "/" + run.Pipeline + ".toml"
	return q.AddFinding(ctx, run.ID,
		check.About("fewer-tests", file,
			fmt.Sprintf("%d test cases ran; in run %d, the last that passed, there were %d", is, last.Number, was),
			"Is that meant? Else look for what no longer runs: a filter, a folder, a condition around the tests."))
}
