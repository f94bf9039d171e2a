package report

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// Subscription says what a client wants to be told of.
type Subscription struct {
	Project string           // "" for all
	Run     record.RunNumber // 0 for all of the project
	After   uint64           // events after this one; 0 for those from now on
	Job     string           // job whose log to follow; "*" for all of the run
	Attempt int              // 0 for the latest
	Cursors map[string]int64

	// Still reports, every so often, whether whoever listens may still do so; nil for always.
	Still func(ctx context.Context) error
}

// Listener receives what a subscription brings. Each call comes with the position to resume from.
type Listener interface {
	Hello(seq uint64, logs map[string]int64) error
	Change(seq uint64, logs map[string]int64, c api.Change) error
	Lines(seq uint64, logs map[string]int64, b api.LogBatch) error
	Idle() error
}

// LogName names an attempt's log in cursors: job name, a dot, number of the attempt.
func LogName(job string, attempt int) string { return fmt.Sprintf("%s.%d", job, attempt) }

// lookAgain is how long what somebody may see is taken to be so without asking.
const lookAgain = 10 * time.Second

// sight is what whoever listens may see.
type sight struct {
	sub      Subscription
	all      bool
	projects map[string]bool
	asked    time.Time
}

// fresh makes sure that it is known and not old.
func (s *Report) fresh(ctx context.Context, v *sight) error {
	if time.Since(v.asked) < lookAgain {
		return nil
	}
	if v.sub.Still != nil {
		if err := v.sub.Still(ctx); err != nil {
			return err
		}
	}
	_, all, err := s.Visible(ctx)
	if err != nil {
		return err
	}
	v.all, v.asked, v.projects = all, time.Now(), map[string]bool{}
	if all {
		return nil
	}
	names, err := s.VisibleNames(ctx)
	for _, name := range names {
		v.projects[name] = true
	}
	if err == nil && v.sub.Project != "" && !v.projects[v.sub.Project] {
		err = fmt.Errorf("project %s: %w", v.sub.Project, ground.ErrNotFound)
	}
	return err
}

// idleAfter is how long a silent stream waits before it shows a sign of life.
const idleAfter = 15 * time.Second

// Subscribe tells a listener of changes and log lines until ctx ends or the listener fails.
func (s *Report) Subscribe(ctx context.Context, sub Subscription, l Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	seq := sub.After
	if seq == 0 {
		last, err := s.Stream.LastEvent(ctx)
		if err != nil {
			return err
		}
		seq = last
	}
	var project record.ProjectID
	var runID record.RunID
	if sub.Project != "" {
		p, err := s.VisibleProject(ctx, sub.Project)
		if err != nil {
			return err
		}
		project = p.ID
	}
	seen := &sight{sub: sub}
	if err := s.fresh(ctx, seen); err != nil {
		return err
	}
	names := map[record.AttemptID]string{}
	cursors := logs.Cursors{}
	var only record.AttemptID
	if sub.Run != 0 {
		run, err := s.FindRun(ctx, sub.Project, sub.Run)
		if err != nil {
			return err
		}
		runID = run.ID
		if names, err = s.logNames(ctx, run.ID); err != nil {
			return err
		}
		for id, name := range names {
			cursors[id] = sub.Cursors[name]
		}
		if sub.Job != "" && sub.Job != "*" {
			a, exists, err := s.logs.AttemptOf(ctx, run, sub.Job, sub.Attempt)
			if err != nil {
				return err
			}
			if only = a.ID; !exists {
				sub.Job = "" // nothing to follow yet; the change that starts it makes the client ask again
			}
		}
	}
	events, err := s.Stream.Events(ctx, seq, project, sub.Run)
	if err != nil {
		return err
	}
	defer events.Close()

	type message struct {
		event   *stream.Event
		attempt store.Attempt
		lines   []logline.Line
	}
	messages := make(chan message)
	send := func(m message) error {
		select {
		case messages <- m:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	var reading sync.WaitGroup
	defer func() {
		cancel()
		reading.Wait()
	}()
	reading.Go(func() {
		defer cancel()
		for {
			e, err := events.Next(ctx)
			if err != nil || send(message{event: &e}) != nil {
				return
			}
		}
	})
	if sub.Job != "" && runID != 0 {
		reading.Go(func() {
			defer cancel()
			err := s.logs.Follow(ctx, runID, only, cursors, func(a store.Attempt, lines []logline.Line) error {
				return send(message{attempt: a, lines: lines})
			})
			if err != nil && ctx.Err() == nil {
				s.Log.Warn("following a log ended", "run", runID, "error", err)
			}
		})
	}
	// The follower owns cursors; what has been told to the listener is counted here.
	told := map[string]int64{}
	for name, n := range sub.Cursors {
		told[name] = n
	}
	if err := l.Hello(seq, told); err != nil {
		return err
	}
	for {
		select {
		case m := <-messages:
			if err := s.fresh(ctx, seen); err != nil {
				return err
			}
			if m.event != nil {
				seq = m.event.Seq
				if seen.all || seen.projects[m.event.Change.Project] {
					err = l.Change(seq, told, m.event.Change)
				}
				break
			}
			name := names[m.attempt.ID]
			if name == "" {
				if names, err = s.logNames(ctx, runID); err != nil {
					return err
				}
				name = names[m.attempt.ID]
			}
			told[name] = m.lines[len(m.lines)-1].N
			err = l.Lines(seq, told, api.LogBatch{Job: jobOf(name), Attempt: m.attempt.Number, Lines: m.lines})
		case <-time.After(idleAfter):
			if err = s.fresh(ctx, seen); err == nil {
				err = l.Idle()
			}
		case <-ctx.Done():
			return nil
		case <-s.Life.Done():
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (s *Report) logNames(ctx context.Context, run record.RunID) (map[record.AttemptID]string, error) {
	jobs, err := s.Store.Jobs(ctx, run)
	if err != nil {
		return nil, err
	}
	attempts, err := s.Store.Attempts(ctx, run)
	if err != nil {
		return nil, err
	}
	jobName := map[record.JobID]string{}
	for _, j := range jobs {
		jobName[j.ID] = j.Name
	}
	names := map[record.AttemptID]string{}
	for _, a := range attempts {
		names[a.ID] = LogName(jobName[a.JobID], a.Number)
	}
	return names, nil
}

// jobOf is the job's part of a log's name; job names hold no dot.
func jobOf(logName string) string {
	job, _, _ := strings.Cut(logName, ".")
	return job
}
