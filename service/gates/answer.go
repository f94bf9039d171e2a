package gates

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// Answer takes somebody's word. Enough who say yes let the job pass, one who says no ends it.
func (s *Gates) Answer(ctx context.Context, project string, id record.GateID, in api.GateAnswer) (api.Gate, error) {
	comment := strings.TrimSpace(in.Comment)
	if !utf8.ValidString(comment) || strings.ContainsRune(comment, 0) {
		return api.Gate{}, fmt.Errorf("the comment is %w: it holds a NUL, or bytes that are no text", ground.ErrInvalid)
	}
	found, err := s.find(ctx, project, id)
	if err != nil {
		return api.Gate{}, err
	}
	err = s.deciding(ctx, found, func(q ground.Q, run store.Run, g store.Gate) error {
		if g.Outcome != "" || !time.Now().Before(g.Until) {
			return fmt.Errorf("an answer is %w now: %s", ground.ErrInvalid, over(g))
		}
		w := ground.WhoAsks(ctx)
		if why, err := someone(w).mayNot(ctx, q.Q, g); err != nil || why != "" {
			return errors.Join(err, refusal(why))
		}
		said, err := q.Answers(ctx, []record.GateID{g.ID})
		if err != nil {
			return err
		}
		for _, a := range said {
			if a.PersonID == w.ID && a.Yes == in.Yes {
				return fmt.Errorf("a second %s of yours is %w: the first stands", word(in.Yes), ground.ErrInvalid)
			}
		}
		answer := store.Answer{GateID: g.ID, PersonID: w.ID, Yes: in.Yes, Comment: comment, At: time.Now()}
		if err := q.SetAnswer(ctx, answer); err != nil {
			return err
		}
		told := ground.OfRun(fact.GateAnswer, run)
		told.Subject = fmt.Sprintf("run %d, %s", g.Run, g.Job)
		told.After = map[string]string{"question": g.Ask.V.Question, "answer": word(in.Yes), "comment": comment}
		if err := q.Tell(ctx, told); err != nil {
			return err
		}
		if !in.Yes {
			return s.end(ctx, q, run, g, store.GateNo, state.Failed, saidNo(w.Name, comment))
		}
		yes, err := counted(ctx, q, g)
		if err != nil || len(yes) < g.Ask.V.Yeses() {
			return err
		}
		return s.end(ctx, q, run, g, store.GateYes, state.Passed, "")
	})
	if err != nil {
		return api.Gate{}, err
	}
	return s.Gate(ctx, project, id)
}

func word(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func saidNo(name, comment string) string {
	if comment == "" {
		return name + " said no"
	}
	return name + " said no: " + comment
}

func refusal(why string) error {
	if why == "" {
		return nil
	}
	return ground.Refuse("%s", why)
}

// over says of a gate that takes no answer any more how it has ended.
func over(g store.Gate) string {
	switch g.Outcome {
	case store.GateYes:
		return "the gate has been passed"
	case store.GateNo:
		return "somebody has said no"
	case store.GateCancelled:
		return "its run was stopped"
	}
	return "the time for it was over at " + g.Until.UTC().Format(time.RFC3339)
}

// deciding does what may end a gate, with its run's row locked, so that two answers come one after the other.
func (s *Gates) deciding(ctx context.Context, g store.Gate,
	do func(q ground.Q, run store.Run, g store.Gate) error) error {
	return s.Tx(ctx, func(q ground.Q) error {
		run, err := q.LockRun(ctx, g.RunID)
		if err != nil {
			return ground.Known(err, "gate %d", g.ID)
		}
		now, err := q.GateByID(ctx, g.ID)
		if err != nil {
			return ground.Known(err, "gate %d", g.ID)
		}
		return do(q, run, now)
	})
}

// end ends a gate and its job, and lets the run go on.
func (s *Gates) end(ctx context.Context, q ground.Q, run store.Run, g store.Gate, outcome string, to state.State,
	reason string) error {
	if err := q.EndGate(ctx, g.ID, outcome, time.Now()); err != nil {
		return err
	}
	if err := q.SetJob(ctx, g.JobID, to, reason, true); err != nil {
		return err
	}
	if to == state.Failed || to == state.TimedOut {
		if err := q.NoteRefusal(ctx, run.ID, g.Job); err != nil {
			return err
		}
	}
	return s.work.Settle(ctx, q, run, reason)
}

// due ends a gate whose time is over, as its pipeline says.
func (s *Gates) due(ctx context.Context, of work.GateDue) error {
	found, err := s.Store.GateByID(ctx, of.Gate)
	if errors.Is(err, store.ErrNotFound) {
		return nil // its run is gone
	}
	if err != nil {
		return err
	}
	return s.deciding(ground.AsItself(ctx), found, func(q ground.Q, run store.Run, g store.Gate) error {
		switch {
		case g.Outcome != "":
			return nil
		case time.Now().Before(g.Until): // whose clock called us is ahead of ours
			return q.PutOffUntil(ctx, g.Until, of)
		}
		yes, err := counted(ctx, q, g)
		if err != nil {
			return err
		}
		to, reason := unanswered(g.Ask.V, len(yes))
		return s.end(ctx, q, run, g, store.GateUnanswered, to, reason)
	})
}

// unanswered is what becomes of a gate to which not enough people have said anything in time.
func unanswered(a *definition.Ask, yes int) (state.State, string) {
	said := "nobody has answered"
	if yes > 0 {
		said = fmt.Sprintf("%d of %d have said yes", yes, a.Yeses())
	}
	reason := fmt.Sprintf("%s in %s", said, a.Time())
	switch a.Unanswered {
	case definition.UnansweredPass:
		return state.Passed, ""
	case definition.UnansweredSkip:
		return state.Skipped, reason
	}
	return state.TimedOut, reason
}
