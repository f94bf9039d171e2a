package history

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/deal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const (
	// mostTimed bounds the cases whose times are read to deal.
	mostTimed = 200_000
	// longestDealt bounds a name, in bytes.
	longestDealt = 2000
)

// Deal tells what of a list falls to an attempt's variant of its job. All variants of a run are told of one deal, which
// the first that asks has made; so is one that is tried again.
func (s *History) Deal(ctx context.Context, attempt record.AttemptID, in api.DealRequest) (out api.Dealt, err error) {
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return out, ground.Gone(err, attempt)
	}
	run, err := s.Store.RunByID(ctx, a.RunID)
	if err != nil {
		return out, err
	}
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return out, err
	}
	at := slices.IndexFunc(jobs, func(j store.Job) bool { return j.ID == a.JobID })
	if at < 0 || in.Step >= len(jobs[at].Definition.V.Step) || jobs[at].Definition.V.Step[in.Step].Deal == nil {
		return out, fmt.Errorf("step %d of the job deals nothing: %w", in.Step+1, ground.ErrForbidden)
	}
	if err := dealable(in.Items); err != nil {
		return out, err
	}
	job := jobs[at].Definition.V
	all := make([]*definition.Job, len(jobs))
	for i, j := range jobs {
		all[i] = j.Definition.V
	}
	among := job.DealtWith(job.Step[in.Step], all)
	mine := slices.IndexFunc(among, func(j *definition.Job) bool { return j.Name == job.Name })
	if mine < 0 {
		return out, fmt.Errorf("job %s deals among nobody: %w", job.Name, ground.ErrInvalid)
	}
	d, err := s.dealt(ctx, run, job, fmt.Sprintf("%d %s", in.Step, among[0].Name), len(among), in.Items)
	if err != nil {
		return out, err
	}
	if mine >= len(d.Shares.V) {
		return out, fmt.Errorf("the deal of run %d is among %d: %w", run.Number, len(d.Shares.V), ground.ErrInvalid)
	}
	share := d.Shares.V[mine]
	out = api.Dealt{Items: ground.NonNil(share.Items), Ms: share.Ms, Among: len(among), Known: d.Known}
	for _, other := range d.Shares.V {
		out.MostMs = max(out.MostMs, other.Ms)
	}
	return out, nil
}

// dealt has a list dealt, or finds what was.
func (s *History) dealt(ctx context.Context, run store.Run, job *definition.Job, place string, among int,
	items []string) (store.Dealt, error) {
	digest := sha256.Sum256([]byte(strings.Join(items, "\x00")))
	d, err := s.Store.DealAt(ctx, run.ID, place)
	if errors.Is(err, store.ErrNotFound) {
		times, err := s.Store.UsualTimes(ctx, run.ProjectID, run.Pipeline, job.Of, mostTimed)
		if err != nil {
			return d, err
		}
		d.Digest = digest[:]
		d.Shares.V, d.Known = deal.Out(items, deal.By(times), among)
		if d, err = s.Store.AddDeal(ctx, run.ID, place, d); err != nil {
			return d, err
		}
	} else if err != nil {
		return d, err
	}
	if !bytes.Equal(d.Digest, digest[:]) {
		return d, fmt.Errorf("the list differs from that of another variant, so that tests would be lost, or run twice: %w; "+
			"have it made alike in all, and in the same order", ground.ErrInvalid)
	}
	return d, nil
}

func dealable(items []string) error {
	if len(items) > action.MaxDealt {
		return fmt.Errorf("%d names; at most %d are dealt, and more are %w", len(items), action.MaxDealt, ground.ErrInvalid)
	}
	seen := make(map[string]bool, len(items))
	for _, item := range items {
		switch {
		case item == "" || len(item) > longestDealt || strings.ContainsAny(item, "\x00\n"):
			return fmt.Errorf("%.60q is no name to deal: %w", item, ground.ErrInvalid)
		case seen[item]:
			return fmt.Errorf("%.60q is there twice: %w", item, ground.ErrInvalid)
		}
		seen[item] = true
	}
	return nil
}
