package work

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// GateDue is a gate whose time to answer is over.
type GateDue struct {
	Gate record.GateID `json:"gate"`
}

// Kind implements river.JobArgs.
func (GateDue) Kind() string { return "gate-due" }

// ask puts the question of a job that is a gate to people. Nothing looks at it again until somebody answers, or its
// time is over.
func ask(ctx context.Context, q ground.Q, run store.Run, job store.Job, now time.Time) error {
	question := *job.Definition.V.Ask
	question.Question = definition.Fill(question.Question, runEnv(run))
	g := store.Gate{ProjectID: run.ProjectID, RunID: run.ID, JobID: job.ID, Asked: now, Until: now.Add(question.Time())}
	g.Ask.V = &question
	if err := q.AddGate(ctx, &g); err != nil {
		return err
	}
	return q.PutOffUntil(ctx, g.Until, GateDue{g.ID})
}
