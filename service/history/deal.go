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
	among, mine, err := s.dealers(ctx, run, a.JobID, "", in.Step)
	if err != nil {
		return out, err
	}
	if err := dealable(in.Items); err != nil {
		return out, err
	}
	if run.Bisection != 0 {
		return s.dealtBefore(ctx, run, among[mine].Name, in)
	}
	d, err := s.dealt(ctx, run, among[mine], placeOf(in.Step, among), len(among), in.Items)
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

// dealers are the variants of a job, by its id or its name, among which one of its steps deals, and which of them it
// is.
func (s *History) dealers(ctx context.Context, run store.Run, id record.JobID, name string, step int) (
	among []*definition.Job, mine int, err error) {
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return nil, 0, err
	}
	all := make([]*definition.Job, len(jobs))
	var job *definition.Job
	for i, j := range jobs {
		if all[i] = j.Definition.V; j.ID == id || j.Name == name {
			job = all[i]
		}
	}
	if job == nil || step >= len(job.Step) || job.Step[step].Deal == nil {
		return nil, 0, fmt.Errorf("step %d of the job deals nothing: %w", step+1, ground.ErrForbidden)
	}
	among = job.DealtWith(job.Step[step], all)
	mine = slices.IndexFunc(among, func(j *definition.Job) bool { return j.Name == job.Name })
	if mine < 0 {
		return nil, 0, fmt.Errorf("job %s deals among nobody: %w", job.Name, ground.ErrInvalid)
	}
	return among, mine, nil
}

// placeOf names a deal in its run: by the step, and the first of those among whom it is.
func placeOf(step int, among []*definition.Job) string {
	return fmt.Sprintf("%d %s", step, among[0].Name)
}

// dealtBefore tells what falls to a job that is tried at another change: what fell to it in the run that failed, as far
// as it is still in the list. Else a try of one variant would run what others had, and fail of something else.
func (s *History) dealtBefore(ctx context.Context, try store.Run, job string, in api.DealRequest) (out api.Dealt,
	err error) {
	out.Items = []string{}
	failed, err := s.Store.RunByNumber(ctx, try.Project, try.CausedBy)
	if err != nil {
		return out, ground.Known(err, "run %d, for which this is tried", try.CausedBy)
	}
	among, mine, err := s.dealers(ctx, failed, 0, job, in.Step)
	if err != nil {
		return out, err
	}
	d, err := s.Store.DealAt(ctx, failed.ID, placeOf(in.Step, among))
	if err != nil || mine >= len(d.Shares.V) {
		return out, ground.Known(err, "what fell to %s in run %d", job, failed.Number)
	}
	had := map[string]bool{}
	for _, item := range d.Shares.V[mine].Items {
		had[item] = true
	}
	for _, item := range in.Items {
		if had[item] {
			out.Items = append(out.Items, item)
		}
	}
	out.Ms, out.MostMs, out.Among, out.Known = d.Shares.V[mine].Ms, d.Shares.V[mine].Ms, len(among), d.Known
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
