package bisect

import (
	"context"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// mostSuspects bounds how many changes are listed of which one is to blame.
const mostSuspects = 20

// Of lists the searches for what broke jobs of a run.
func (s *Bisect) Of(ctx context.Context, project string, number record.RunNumber) ([]api.Bisection, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Bisections(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	out := make([]api.Bisection, len(list))
	for i, b := range list {
		if out[i], err = s.shown(ctx, run, b); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Bisect) shown(ctx context.Context, run store.Run, b store.Bisection) (api.Bisection, error) {
	tries, err := s.Store.BisectionTries(ctx, b.ID)
	if err != nil {
		return api.Bisection{}, err
	}
	known := knownBy(b, tries)
	out := api.Bisection{Run: run.Number, Job: b.Job, By: b.AskedBy, Begun: b.Begun, Ended: b.Ended, Good: b.Good,
		Among: len(b.Changes.V), Left: known.Last - known.First + 1, Why: b.EndedWhy, State: stateOf(b, known),
		Tries: []api.BisectionTry{}, Suspects: []api.CommitNote{}}
	if out.State == api.BisectionSearching {
		out.Most = known.Most
	}
	if out.State == api.BisectionChance {
		out.Left = 0
		known.First = known.Last + 1
	}
	for _, c := range b.Changes.V[known.First:min(known.Last+1, known.First+mostSuspects)] {
		out.Suspects = append(out.Suspects, noteOf(c))
	}
	for _, t := range tries {
		out.Tries = append(out.Tries, api.BisectionTry{CommitNote: noteOf(b.Changes.V[t.Position]), Run: t.Run,
			Verdict: t.Verdict, Why: t.Why})
	}
	return out, nil
}

func noteOf(c store.Suspect) api.CommitNote {
	return api.CommitNote{ID: c.Commit, Subject: c.Subject, Author: c.Author}
}

func stateOf(b store.Bisection, known bisect.Answer) api.BisectionState {
	switch {
	case b.Ended == nil:
		return api.BisectionSearching
	case b.EndedWhy != "":
		return api.BisectionStopped
	case known.Again:
		return api.BisectionChance
	case known.First != known.Last:
		return api.BisectionUnclear
	}
	return api.BisectionFound
}

// knownBy tells what is known by tries.
func knownBy(b store.Bisection, tries []store.BisectionTry) bisect.Answer {
	verdicts := map[int]bisect.Verdict{}
	for _, t := range tries {
		verdicts[t.Position] = t.Verdict
	}
	return bisect.Of(len(b.Changes.V), verdicts)
}

// open is the try that is not over, if any.
func open(tries []store.BisectionTry) (store.BisectionTry, bool) {
	i := slices.IndexFunc(tries, func(t store.BisectionTry) bool { return t.Verdict == "" })
	if i < 0 {
		return store.BisectionTry{}, false
	}
	return tries[i], true
}
