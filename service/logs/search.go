package logs

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const (
	// searchFor is how long a request looks; then it answers with what it has found, and where to go on.
	searchFor = 800 * time.Millisecond
	// searchAtOnce is how many logs are looked up in the records at a time.
	searchAtOnce = 100
)

// Search looks into the logs of a project, the latest first, or into those of one run. It looks for a short while: what
// it answers says where to go on.
func (s *Logs) Search(ctx context.Context, project string, in api.LogSearch) (api.LogFound, error) {
	out := api.LogFound{Hits: []api.LogHit{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	finder, err := logline.NewFinder(in.For, in.Pattern)
	if err != nil {
		return out, fmt.Errorf("%w: %w", ground.ErrInvalid, err)
	}
	attempt, from, err := cursorOf(in.After)
	if err != nil {
		return out, err
	}
	began := time.Now()
	more := func() bool { return time.Since(began) < searchFor && ctx.Err() == nil }
	for {
		list, err := s.Store.LogsToSearch(ctx, p.ID, store.LogsFilter{Run: in.Run, Job: in.Job, From: attempt,
			Limit: searchAtOnce})
		if err != nil || len(list) == 0 {
			return out, err
		}
		for _, a := range list {
			if a.ID != attempt {
				from = 1
			}
			found, next, err := s.searchOne(ctx, a, from, finder, in.Limit-len(out.Hits), more)
			if err != nil {
				return out, err
			}
			for _, l := range found {
				out.Hits = append(out.Hits, api.LogHit{Run: a.Run, Pipeline: a.Pipeline, Job: a.Job, Attempt: a.Number, Line: l})
			}
			if next > 0 {
				out.Next = fmt.Sprintf("%d:%d", a.ID, next)
				return out, nil
			}
			out.Looked++
			attempt = a.ID - 1 // those before it
			if len(out.Hits) >= in.Limit || !more() {
				out.Next = fmt.Sprintf("%d:1", attempt)
				return out, nil
			}
		}
	}
}

// searchOne looks into one log: finished, or as far as it is.
func (s *Logs) searchOne(ctx context.Context, a store.SearchedLog, from int64, f *logline.Finder, limit int,
	goOn func() bool) ([]logline.Line, int64, error) {
	if a.LogMoved != nil {
		if a.LogBlob == "" {
			return nil, 0, nil
		}
		found, next, err := logline.SearchFile(s.blobs.At(ctx, a.LogBlob), a.LogSize, from, f, limit, goOn)
		if errors.Is(err, logline.ErrNotALog) {
			return nil, 0, nil // it was given up meanwhile
		}
		return found, next, err
	}
	var found []logline.Line
	for {
		lines, err := s.readLog(ctx, a.Attempt, from, MaxLogPart)
		if err != nil || len(lines) == 0 {
			return found, 0, err
		}
		for _, l := range lines {
			if !f.In(l.Text) {
				continue
			}
			if len(found) == limit {
				return found, l.N, nil
			}
			found = append(found, l)
		}
		if from = lines[len(lines)-1].N + 1; !goOn() {
			return found, from, nil
		}
	}
}

// cursorOf reads where to go on: an attempt and a line. Without one, it is the latest of all.
func cursorOf(text string) (attempt record.AttemptID, line int64, err error) {
	if text == "" {
		return 1 << 62, 1, nil
	}
	a, l, is := strings.Cut(text, ":")
	id, err1 := strconv.ParseInt(a, 10, 64)
	line, err2 := strconv.ParseInt(l, 10, 64)
	if !is || err1 != nil || err2 != nil || line < 1 {
		return 0, 0, fmt.Errorf("%.40q is nowhere to go on from: %w; take next of the answer before", text, ground.ErrInvalid)
	}
	return record.AttemptID(id), line, nil
}
