package work

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/cause"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

const (
	// causesWithin bounds how long a project's own causes are read for: a repository that hangs holds up no report.
	causesWithin = 3 * time.Second
	// longSaid bounds the line that is kept of a failure, in characters.
	longSaid = 400
)

// failing finds out why attempts fail.
type failing struct{ *ground.Ground }

// whatFailed finds out what failed in an attempt that is about to end, and why: nil when nothing did. It is done before
// the transaction, since it reads the repository. That it cannot be found out holds nothing up.
func (s failing) whatFailed(ctx context.Context, a store.Attempt, in api.Finish) *store.FailureSeen {
	if in.State != state.Failed && in.State != state.TimedOut {
		return nil
	}
	found, err := s.find(ctx, a, in.Reason)
	if err != nil {
		s.Log.Warn("why an attempt failed could not be found out", "attempt", a.ID, "error", err)
		return nil
	}
	return found
}

func (s failing) find(ctx context.Context, a store.Attempt, reason string) (*store.FailureSeen, error) {
	run, err := s.Store.RunByID(ctx, a.RunID)
	if err != nil {
		return nil, err
	}
	job, err := s.Store.JobByID(ctx, a.JobID)
	if err != nil {
		return nil, err
	}
	steps, err := s.Store.StepsOfAttempt(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	out := &store.FailureSeen{AttemptID: a.ID, Job: job.Name}
	lines := []string{reason}
	var tests []string
	for i, st := range steps {
		if st.State != state.Failed && st.State != state.TimedOut ||
			i < len(job.Definition.V.Step) && job.Definition.V.Step[i].Advisory {
			continue
		}
		out.Step = st.Name
		lines = nil
		for _, l := range st.Excerpt.V {
			lines = append(lines, l.Text)
		}
		lines = append(lines, st.Reason)
		if st.Tests.V != nil {
			for _, c := range st.Tests.V.Failures {
				tests = append(tests, strings.TrimSpace(c.Suite+" › "+c.Name+": "+c.Message))
			}
		}
		break
	}
	known := cause.With(s.ownCauses(ctx, run))
	why, said, is := known.Of(lines)
	if !is {
		said = saidFirst(lines)
	}
	if len(tests) > 0 && (!is || why.Name == failedTest) {
		why, _ = known.Named(failedTest)
		said = tests[0]
	}
	print := sha256.Sum256([]byte(cause.Print(out.Step, why, said)))
	out.Print, out.Said = print[:16], cutTo(plain.Line(said), longSaid)
	out.Cause, out.Title, out.Means, out.Do, out.Own = why.Name, why.Title, why.Means, why.Do, why.Own
	return out, nil
}

// cutTo shortens a text to some characters.
func cutTo(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// failedTest is the cause of a test that failed.
const failedTest = "assertion"

// saidFirst is the line by which a failure of no known cause is known again: the first that looks like an error, or the
// last that says anything.
func saidFirst(lines []string) (said string) {
	for _, l := range lines {
		if diagnose.LooksLikeError(l) {
			return logline.Plain(l)
		}
		if text := logline.Plain(l); strings.TrimSpace(text) != "" {
			said = text
		}
	}
	return said
}

// ownCauses are those that a project describes at a run's commit; none when they cannot be read.
func (s failing) ownCauses(ctx context.Context, run store.Run) []definition.Cause {
	ctx, cancel := context.WithTimeout(ctx, causesWithin)
	defer cancel()
	list, err := s.readCauses(ctx, run)
	if err != nil {
		s.Log.Debug("a project's own causes were not read", "run", run.ID, "error", err)
	}
	return list
}

func (s failing) readCauses(ctx context.Context, run store.Run) ([]definition.Cause, error) {
	p, err := s.Store.ProjectByID(ctx, run.ProjectID)
	if err != nil {
		return nil, err
	}
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err != nil {
		return nil, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	file, err := reader.File(run.Commit, definition.CausesPath, definition.MaxFileSize)
	if errors.Is(err, source.ErrNoObject) || err == nil && file.Text == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list, found := definition.ParseCauses(definition.CausesPath, file.Text)
	if list == nil && len(found) > 0 {
		return nil, errors.New(found[0].String())
	}
	return list, nil
}
