package logs

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logdiff"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
)

const (
	// comparedWithin is for how long a comparison looks for the best answer.
	comparedWithin = 3 * time.Second
	// comparedBytes bounds what is read of a log to compare it; what comes last counts.
	comparedBytes = 24 << 20
	// shownLines is how many lines an answer has at most, of both logs.
	shownLines = 4000
	// around is how many lines are shown before and after a difference.
	around = 3
)

// comparing bounds how many comparisons a server makes at a time, since each holds two logs.
type comparing chan struct{}

func (c comparing) begin(ctx context.Context) (end func(), err error) {
	select {
	case c <- struct{}{}:
		return func() { <-c }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Compare tells in what the log of a run's job differs from that of the same job of another run, but for times, hashes
// and the like.
func (s *Logs) Compare(ctx context.Context, project string, number record.RunNumber, job string,
	other record.RunNumber) (out api.LogComparison, err error) {
	end, err := s.comparing.begin(ctx)
	if err != nil {
		return out, err
	}
	defer end()
	was, err := s.whole(ctx, project, other, job)
	if err != nil {
		return out, err
	}
	is, err := s.whole(ctx, project, number, job)
	if err != nil {
		return out, err
	}
	out = api.LogComparison{Was: was.LogSide, Is: is.LogSide, Parts: []api.LogDifference{}}
	began := time.Now()
	parts := logdiff.Parts(was.texts(), is.texts(), comparedWithin)
	out.Rough = time.Since(began) >= comparedWithin
	for i, p := range parts {
		before, after := was.lines[p.WasFrom:p.WasFrom+p.WasLen], is.lines[p.IsFrom:p.IsFrom+p.IsLen]
		if !p.Same {
			out.Different += max(len(before), len(after))
		}
		out.Parts = append(out.Parts, shownOf(p.Same, before, after, i == 0, i == len(parts)-1)...)
	}
	out.Parts, out.More = cutShown(out.Parts)
	return out, nil
}

// cutShown leaves out what comes after as many lines as an answer has.
func cutShown(list []api.LogDifference) (shown []api.LogDifference, more bool) {
	left := shownLines
	for i := range list {
		d := &list[i]
		if left -= len(d.Was) + len(d.Is); left < 0 {
			d.Was, d.Is = d.Was[:min(len(d.Was), shownLines/2)], d.Is[:min(len(d.Is), shownLines/2)]
			return list[:i+1], true
		}
	}
	return list, false
}

// shownOf is what is shown of a stretch: all that differs, and of what is the same only what is beside that.
func shownOf(same bool, was, is []logline.Line, first, last bool) []api.LogDifference {
	if !same {
		return []api.LogDifference{{Was: orNone(was), Is: orNone(is)}}
	}
	head, tail := around, around
	if first {
		head = 0
	}
	if last {
		tail = 0
	}
	n := len(was)
	if n <= head+tail+1 {
		return []api.LogDifference{{Same: true, Was: was, Is: is}}
	}
	var out []api.LogDifference
	if head > 0 {
		out = append(out, api.LogDifference{Same: true, Was: was[:head], Is: is[:head]})
	}
	out = append(out, api.LogDifference{Same: true, Hidden: n - head - tail, Was: orNone(nil), Is: orNone(nil)})
	if tail > 0 {
		out = append(out, api.LogDifference{Same: true, Was: was[n-tail:], Is: is[n-tail:]})
	}
	return out
}

func orNone(list []logline.Line) []logline.Line {
	if list == nil {
		return []logline.Line{}
	}
	return list
}

// read is a log that was read to be compared.
type read struct {
	api.LogSide
	lines []logline.Line
}

func (r read) texts() []string {
	out := make([]string, len(r.lines))
	for i, l := range r.lines {
		out[i] = l.Text
	}
	return out
}

// whole reads the log of a job's latest attempt; of a long one the end, since there it fails.
func (s *Logs) whole(ctx context.Context, project string, number record.RunNumber, job string) (r read, err error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return r, err
	}
	a, exists, err := s.AttemptOf(ctx, run, job, 0)
	if err != nil {
		return r, err
	}
	r.Run, r.Job, r.State = number, job, run.State
	if !exists {
		return r, fmt.Errorf("a log of job %s in run %d: %w", job, number, ground.ErrNotFound)
	}
	r.Attempt, r.State = a.Number, a.State
	if r.Lines, err = s.logTotal(ctx, a); err != nil {
		return r, err
	}
	size := 0
	for from := max(1, r.Lines-logdiff.MaxLines+1); from <= r.Lines; {
		lines, err := s.readLog(ctx, a, from, MaxLogPart)
		if err != nil {
			return r, err
		}
		if len(lines) == 0 {
			break
		}
		for _, l := range lines {
			size += len(l.Text)
		}
		r.lines = append(r.lines, lines...)
		from = lines[len(lines)-1].N + 1
		cut := 0
		for ; size > comparedBytes; cut++ {
			size -= len(r.lines[cut].Text)
		}
		r.lines = r.lines[cut:]
	}
	if over := len(r.lines) - logdiff.MaxLines; over > 0 { // it has grown meanwhile
		r.lines = r.lines[:logdiff.MaxLines]
	}
	if len(r.lines) > 0 {
		r.From = r.lines[0].N
	}
	return r, nil
}
