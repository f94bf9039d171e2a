package logs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// MaxLogPart is the most lines one request for a part of a log gets.
const MaxLogPart = 5000

// movePart is how many lines at a time go from the stream to the finished log.
const movePart = 2000

// purgeAfter is how long a finished log stays in the stream too, for readers that are still following it.
const purgeAfter = 2 * time.Minute

func LogOf(a store.Attempt) stream.LogID { return stream.LogID{Run: a.RunID, Attempt: a.ID} }

// AppendLog keeps a batch of a running attempt's log lines: first is the number of the first, text their written
// form. When it returns nil the lines will not be lost.
func (s *Logs) AppendLog(ctx context.Context, attempt record.AttemptID, first int64, text []byte) error {
	lines, err := logline.Decode(first, text)
	if err != nil || first < 1 || len(lines) == 0 {
		return fmt.Errorf("log lines from %d on are %w: %w", first, ground.ErrInvalid, err)
	}
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return ground.Gone(err, attempt)
	}
	return s.Stream.AppendLog(ctx, stream.Batch{ID: LogOf(a), First: first, Count: int64(len(lines)), Text: text})
}

// LogRequest says which part of a job's log to read. Attempt 0 is the latest; Tail counts from the end.
type LogRequest struct {
	Job     string
	Attempt int
	From    int64
	Tail    int64
	Limit   int
}

// AttemptOf finds an attempt of a job by its number, 0 for the latest.
func (s *Logs) AttemptOf(ctx context.Context, run store.Run, job string, number int) (a store.Attempt, exists bool,
	err error) {
	jobs, err := s.Store.Jobs(ctx, run.ID)
	if err != nil {
		return a, false, err
	}
	attempts, err := s.Store.Attempts(ctx, run.ID)
	if err != nil {
		return a, false, err
	}
	found := false
	for _, j := range jobs {
		if j.Name != job {
			continue
		}
		found = true
		for _, candidate := range attempts {
			if candidate.JobID == j.ID && (number == 0 || candidate.Number == number) {
				a, exists = candidate, true
			}
		}
	}
	if !found || number != 0 && !exists {
		return a, false, fmt.Errorf("job %s of run %d: %w", job, run.Number, ground.ErrNotFound)
	}
	return a, exists, nil
}

// Log reads a part of a job's log, wherever it is by now.
func (s *Logs) Log(ctx context.Context, project string, number record.RunNumber, in LogRequest) (api.LogPart, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.LogPart{}, err
	}
	a, exists, err := s.AttemptOf(ctx, run, in.Job, in.Attempt)
	if err != nil || !exists {
		return api.LogPart{Lines: []logline.Line{}}, err
	}
	part := api.LogPart{Attempt: a.Number, Complete: a.State.Over(), Lines: []logline.Line{}}
	if part.Total, err = s.logTotal(ctx, a); err != nil {
		return part, err
	}
	from := max(in.From, 1)
	if in.Tail > 0 {
		from = max(1, part.Total-in.Tail+1)
	}
	limit := min(max(in.Limit, 1), MaxLogPart)
	lines, err := s.readLog(ctx, a, from, limit)
	if lines != nil {
		part.Lines = lines
	}
	return part, err
}

func (s *Logs) logTotal(ctx context.Context, a store.Attempt) (int64, error) {
	if a.State.Over() {
		return a.LogLines, nil
	}
	return s.Stream.LastLine(ctx, LogOf(a))
}

func (s *Logs) readLog(ctx context.Context, a store.Attempt, from int64, limit int) ([]logline.Line, error) {
	if a.LogMoved != nil {
		if a.LogLines == 0 {
			return nil, nil
		}
		if a.LogBlob == "" {
			return nil, fmt.Errorf("the log is not kept any longer; piston kept tells for how long logs are: %w",
				ground.ErrNotFound)
		}
		return logline.ReadFile(s.blobs.At(ctx, a.LogBlob), a.LogSize, from, limit)
	}
	return s.Stream.ReadLog(ctx, LogOf(a), from, limit)
}

// WriteLog writes a whole log as plain text.
func (s *Logs) WriteLog(ctx context.Context, project string, number record.RunNumber, job string, attempt int,
	w io.Writer) error {
	for from := int64(1); ; {
		part, err := s.Log(ctx, project, number, LogRequest{Job: job, Attempt: attempt, From: from, Limit: MaxLogPart})
		if err != nil || len(part.Lines) == 0 {
			return err
		}
		for _, l := range part.Lines {
			if _, err := io.WriteString(w, l.Text+"\n"); err != nil {
				return err
			}
		}
		from = part.Lines[len(part.Lines)-1].N + 1
	}
}

// moveLog writes a finished attempt's log, compressed, to the blobs. Readers find it there from then on; it stays
// in the stream a little longer.
func (s *Logs) moveLog(ctx context.Context, a store.Attempt) error {
	if total, err := s.Stream.LastLine(ctx, LogOf(a)); err != nil {
		return err
	} else if total == 0 { // nobody has said anything: it never began
		return s.Store.LogMoved(ctx, a.ID, "", 0, 0)
	}
	name := fmt.Sprintf("logs/%d/%d.zst", a.RunID, a.ID)
	counted := &countingWriter{}
	var lines int64
	err := s.blobs.Write(ctx, name, func(w io.Writer) error {
		counted.w = w
		file, err := logline.NewFileWriter(counted)
		if err != nil {
			return err
		}
		if err := s.copyLog(ctx, a, file); err != nil {
			return err
		}
		lines = file.Lines()
		return file.Close()
	})
	if err != nil {
		return err
	}
	return s.Store.LogMoved(ctx, a.ID, name, counted.n, lines)
}

// copyLog reads a log from its beginning to its end, once, without searching.
func (s *Logs) copyLog(ctx context.Context, a store.Attempt, file *logline.FileWriter) error {
	total, err := s.Stream.LastLine(ctx, LogOf(a))
	if err != nil || total == 0 {
		return err
	}
	reader, err := s.Stream.Logs(ctx, a.RunID, a.ID)
	if err != nil {
		return err
	}
	defer reader.Close()
	for file.Lines() < total {
		wait, cancel := context.WithTimeout(ctx, 30*time.Second)
		batch, err := reader.Next(wait)
		cancel()
		if err != nil {
			return fmt.Errorf("reading on from line %d of %d: %w", file.Lines()+1, total, err)
		}
		lines, err := batch.Lines()
		if err != nil {
			return err
		}
		for _, l := range lines {
			if l.N <= file.Lines() {
				continue // a batch that was sent twice
			}
			if err := file.Append(l); err != nil {
				return err
			}
		}
	}
	return nil
}

type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// Cursors say up to which line each attempt's log has been read: by attempt id.
type Cursors map[record.AttemptID]int64

// Follow reads the logs of a run as they grow, or one attempt's, from the cursors on, and hands each stretch to
// emit, without a gap and without a line twice. It returns when ctx ends or emit fails.
func (s *Logs) Follow(ctx context.Context, run record.RunID, only record.AttemptID, cursors Cursors,
	emit func(store.Attempt, []logline.Line) error) error {
	reader, err := s.Stream.Logs(ctx, run, only)
	if err != nil {
		return err
	}
	defer reader.Close()
	f := &follower{s: s, run: run, only: only, cursors: cursors, emit: emit,
		attempts: map[record.AttemptID]store.Attempt{}}
	if err := f.sweep(ctx); err != nil {
		return err
	}
	for {
		wait, cancel := context.WithTimeout(ctx, 2*time.Second)
		batch, err := reader.Next(wait)
		cancel()
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, context.DeadlineExceeded):
			err = f.sweep(ctx) // what the stream has dropped meanwhile is in the finished logs
		case err == nil:
			err = f.take(ctx, batch)
		}
		if err != nil {
			return err
		}
	}
}

type follower struct {
	s        *Logs
	run      record.RunID
	only     record.AttemptID
	cursors  Cursors
	attempts map[record.AttemptID]store.Attempt
	emit     func(store.Attempt, []logline.Line) error
}

func (f *follower) take(ctx context.Context, b stream.Batch) error {
	id, last := b.ID.Attempt, f.cursors[b.ID.Attempt]
	if b.Last() <= last {
		return nil
	}
	a, ok := f.attempts[id]
	if !ok {
		var err error
		if a, err = f.s.Store.AttemptByID(ctx, id); err != nil {
			return err
		}
		f.attempts[id] = a
	}
	if b.First > last+1 {
		if err := f.catchUp(ctx, a, b.First-1); err != nil {
			return err
		}
	}
	lines, err := b.Lines()
	if err != nil {
		return err
	}
	return f.pass(a, lines)
}

// pass emits the lines that are new.
func (f *follower) pass(a store.Attempt, lines []logline.Line) error {
	for len(lines) > 0 && lines[0].N <= f.cursors[a.ID] {
		lines = lines[1:]
	}
	if len(lines) == 0 {
		return nil
	}
	f.cursors[a.ID] = lines[len(lines)-1].N
	return f.emit(a, lines)
}

// catchUp reads lines up to one from wherever they are.
func (f *follower) catchUp(ctx context.Context, a store.Attempt, to int64) error {
	for f.cursors[a.ID] < to {
		lines, err := f.s.readLog(ctx, a, f.cursors[a.ID]+1, int(min(to-f.cursors[a.ID], movePart)))
		if err != nil || len(lines) == 0 {
			return err
		}
		if err := f.pass(a, lines); err != nil {
			return err
		}
	}
	return nil
}

// Sweep brings the reader up to the end of every log that has been moved.
func (f *follower) sweep(ctx context.Context) error {
	attempts, err := f.s.Store.Attempts(ctx, f.run)
	if err != nil {
		return err
	}
	for _, a := range attempts {
		if f.only != 0 && a.ID != f.only {
			continue
		}
		f.attempts[a.ID] = a
		if a.LogMoved != nil {
			if err := f.catchUp(ctx, a, a.LogLines); err != nil {
				return err
			}
		}
	}
	return nil
}

// moveLogs moves what is ready and drops from the stream what was moved a while ago.
func (s *Logs) moveLogs(ctx context.Context) error {
	ready, err := s.Store.AttemptsWithLogToMove(ctx)
	if err != nil {
		return err
	}
	for _, a := range ready {
		if err := s.moveLog(ctx, a); err != nil {
			return fmt.Errorf("moving the log of attempt %d: %w", a.ID, err)
		}
	}
	old, err := s.Store.AttemptsWithLogToPurge(ctx, time.Now().Add(-purgeAfter))
	if err != nil {
		return err
	}
	for _, a := range old {
		if err := s.Stream.PurgeLog(ctx, LogOf(a)); err != nil {
			return err
		}
		if err := s.Store.LogPurged(ctx, a.ID); err != nil {
			return err
		}
	}
	return nil
}
