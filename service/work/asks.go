package work

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
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

// GateAsked is a gate of which those are to be told who may answer it.
type GateAsked struct {
	Gate record.GateID `json:"gate"`
}

// Kind implements river.JobArgs.
func (GateAsked) Kind() string { return "gate-asked" }

// maxAsked bounds a question about packages, in bytes.
const maxAsked = 400

// askedAfter puts the question whether the findings in an attempt's packages may pass; nil when nobody is asked.
func askedAfter(ctx context.Context, q ground.Q, attempt record.AttemptID) (*definition.Ask, error) {
	list, err := q.AskedPackages(ctx, attempt)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	ask, texts := &definition.Ask{}, []string{}
	for _, p := range list {
		ask.Count = max(ask.Count, p.Ask.V.Count)
		ask.Within = cmp.Or(ask.Within, p.Ask.V.Within)
		for _, who := range p.Ask.V.Who {
			if !slices.Contains(ask.Who, who) {
				ask.Who = append(ask.Who, who)
			}
		}
		for _, f := range p.Findings.V {
			if f.Asked {
				texts = append(texts, path.Base(p.File)+": "+f.Message)
			}
		}
	}
	question := ""
	for i, text := range texts {
		if i > 0 && len(question)+len(text) > maxAsked {
			question += fmt.Sprintf("; and %d more", len(texts)-i)
			break
		}
		question = strings.TrimPrefix(question+"; "+text, "; ")
	}
	ask.Question = "May this pass? " + strings.ToValidUTF8(question, "")
	return ask, nil
}

// askOfJob puts the question of a job that is a gate.
func askOfJob(ctx context.Context, q ground.Q, run store.Run, job store.Job, now time.Time) error {
	question := *job.Definition.V.Ask
	question.Question = definition.Fill(question.Question, runEnv(run))
	if run.Outside { // a stranger has written it, and may want to be taken for somebody else
		question.Question = "Of a proposal from outside: " + question.Question
	}
	return ask(ctx, q, run, job.ID, &question, now)
}

// ask puts a question to people. Nothing looks at it again until somebody answers, or its time is over.
func ask(ctx context.Context, q ground.Q, run store.Run, job record.JobID, question *definition.Ask,
	now time.Time) error {
	g := store.Gate{ProjectID: run.ProjectID, RunID: run.ID, JobID: job, Asked: now, Until: now.Add(question.Time())}
	g.Ask.V = question
	if err := q.AddGate(ctx, &g); err != nil {
		return err
	}
	if err := q.PutOff(ctx, GateAsked{g.ID}); err != nil {
		return err
	}
	return q.PutOffUntil(ctx, g.Until, GateDue{g.ID})
}
