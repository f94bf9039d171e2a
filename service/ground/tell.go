package ground

import (
	"context"
	"encoding/json"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/store"
)

// Q is the records within a transaction of a use case, which tells what happens in it.
type Q struct {
	store.Q
	told  *fact.Follows // of all that was told so far
	later *store.Later
}

// Tx runs a transaction. Once it is done, whoever is to be woken by what was told in it is.
func (s *Ground) Tx(ctx context.Context, do func(q Q) error) error {
	var told fact.Follows
	err := s.Store.Tx(ctx, func(q store.Q) error {
		told = fact.Follows{} // it may be tried again
		return do(Q{q, &told, s.later.Later})
	})
	if err != nil {
		return err
	}
	if told.Console {
		poke(s.kick)
	}
	if told.Work {
		s.Stream.Wake(JobsTopic)
	}
	if told.Runners {
		s.Stream.Wake(BeatTopic)
	}
	if told.Stays {
		s.Stream.Wake(StaysTopic)
	}
	if told.Logs {
		poke(s.moves)
	}
	if told.Next {
		poke(s.ends)
	}
	return nil
}

// Tell tells what happens: it is written, with all that follows from it, in this transaction.
func (q Q) Tell(ctx context.Context, f fact.Fact) error {
	follows, known := fact.Kinds[f.Kind]
	if !known {
		return fmt.Errorf("a fact of no known kind: %q", f.Kind)
	}
	*q.told = q.told.And(follows)
	if follows.Audit {
		if err := q.keepAct(ctx, f); err != nil {
			return err
		}
	}
	if follows.Console {
		return q.AddEvent(ctx, f.ProjectID, store.Change{Project: f.Project, Run: f.Run, State: f.State})
	}
	return nil
}

// Told says that a statement has written by itself what follows from facts of a kind.
func (q Q) Told(kind fact.Kind) { *q.told = q.told.And(fact.Kinds[kind]) }

// keepAct writes into the audit trail who did it. Nobody does nothing.
func (q Q) keepAct(ctx context.Context, f fact.Fact) error {
	w := WhoAsks(ctx)
	row := store.Act{Who: w.Name, Door: "session", Token: w.Token, Address: w.Address, Act: string(f.Kind),
		Project: f.Project, Subject: f.Subject}
	switch {
	case w.Kind == api.RunnerToken:
		row.Door = "runner"
	case w.Kind == itself:
		row.Door = "service"
	case w.Kind == "":
		return fmt.Errorf("%s by nobody: %w", f.Kind, ErrForbidden)
	case w.Token != 0:
		row.Door = "token"
	}
	var err error
	if row.Before, err = orNull(f.Before); err != nil {
		return err
	}
	if row.After, err = orNull(f.After); err != nil {
		return err
	}
	return q.AddAct(ctx, row)
}

func orNull(v any) ([]byte, error) {
	if v == nil {
		return nil, nil
	}
	return json.Marshal(v)
}

// Acting does something and tells it, both or neither.
func (s *Ground) Acting(ctx context.Context, f fact.Fact, do func(q Q) error) error {
	return s.Tx(ctx, func(q Q) error {
		if err := do(q); err != nil {
			return err
		}
		return q.Tell(ctx, f)
	})
}

// OfRun is a fact of a run.
func OfRun(kind fact.Kind, r store.Run) fact.Fact {
	return fact.Fact{Kind: kind, Project: r.Project, ProjectID: r.ProjectID, Run: r.Number, State: r.State}
}
