package ground

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"log/slog"
	"os"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"gentlepiston.example/piston/store"
)

// How often a server looks for what was put off, and how long something of it may take.
const (
	lookForLater = time.Second
	laterWithin  = time.Hour
)

// later is a server's share of the work that is put off.
type later struct {
	*store.Later
	workers *river.Workers
	upkeeps map[string]Upkeep
	revive  func(ctx context.Context, ofServers string) error
	folder  string // of whom it is: the servers of one data folder follow each other
}

// Slow is the queue of what may take long and holds up nothing else, such as bringing packages elsewhere.
const Slow = "slow"

// Mail is the queue of letters.
const Mail = "mail"

// Hooks is the queue of what programs of others are told. Many may be slow to answer.
const Hooks = "hooks"

// folderID stands for a data folder on this machine.
func folderID(home string) string {
	name, _ := os.Hostname()
	sum := sha256.Sum256([]byte(name + "\x00" + home))
	return hex.EncodeToString(sum[:8]) + "-"
}

// openLater makes ready what Does and OneOfAll are told before Background.
func openLater(g *Ground) (*later, error) {
	l := &later{workers: river.NewWorkers(), upkeeps: map[string]Upkeep{}}
	l.folder, l.revive = folderID(g.home), g.Store.ReviveLater
	client, err := g.Store.Later(&river.Config{ID: l.folder + rand.Text(), PollOnly: true, FetchPollInterval: lookForLater,
		FetchCooldown: lookForLater / 10, JobTimeout: laterWithin, Logger: slog.New(newSeldom(g.Log.Handler())),
		ErrorHandler: failures{g.Log},
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 4}, Slow: {MaxWorkers: 8},
			Mail: {MaxWorkers: 4}, Hooks: {MaxWorkers: 100}},
		Workers: l.workers})
	l.Later = client
	river.AddWorker(l.workers, river.WorkFunc(func(ctx context.Context, j *river.Job[upkeepDue]) error {
		u, known := l.upkeeps[j.Args.What]
		if !known {
			return fmt.Errorf("this server knows no upkeep of %s", j.Args.What) // a newer one does, at its next time
		}
		if err := u.Do(ctx); err != nil {
			return fmt.Errorf("%s: %w", u.What, err)
		}
		return nil
	}))
	return l, err
}

// failures says what was put off and could not be done.
type failures struct{ log *slog.Logger }

// HandleError implements river.ErrorHandler.
func (f failures) HandleError(_ context.Context, j *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.log.Warn("what was put off failed; trying again", "kind", j.Kind, "attempt", j.Attempt, "error", err)
	return nil
}

// HandlePanic implements river.ErrorHandler.
func (f failures) HandlePanic(_ context.Context, j *rivertype.JobRow, met any, trace string) *river.ErrorHandlerResult {
	f.log.Error("what was put off met a fault of the service's own", "kind", j.Kind, "panic", met, "trace", trace)
	return nil
}

// Does says how work of a kind that was put off is done. It is done again, ever later, until it has not failed.
func Does[T river.JobArgs](g *Ground, do func(ctx context.Context, of T) error) {
	river.AddWorker(g.later.workers, river.WorkFunc(func(ctx context.Context, j *river.Job[T]) error {
		return do(ctx, j.Args)
	}))
}

// InAWhile is what is answered by work that was put off and cannot be done yet: it is done again after so long, and
// has not failed.
func InAWhile(wait time.Duration) error { return river.JobSnooze(wait) }

// upkeepDue is the work of an upkeep whose time has come.
type upkeepDue struct {
	What string `json:"what"`
}

// Kind implements river.JobArgs.
func (upkeepDue) Kind() string { return "upkeep" }

// InsertOpts implements river.JobArgsWithInsertOpts. What fails comes again with its next time.
func (upkeepDue) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable,
		rivertype.JobStateScheduled}}}
}

// OneOfAll has an upkeep done over and over by one server of all that share the records.
func (s *Ground) OneOfAll(u Upkeep) {
	s.later.upkeeps[u.What] = u
	s.later.PeriodicJobs().Add(river.NewPeriodicJob(river.PeriodicInterval(u.Every),
		func() (river.JobArgs, *river.InsertOpts) { return upkeepDue{u.What}, nil },
		&river.PeriodicJobOpts{RunOnStart: true})) // or one that is started often would never come to it
}

// PutOff has something done after the transaction, by a server that Does it.
func (q Q) PutOff(ctx context.Context, all ...river.JobArgs) error {
	list := make([]river.InsertManyParams, len(all))
	for i, of := range all {
		list[i].Args = of
	}
	return q.Q.PutOff(ctx, q.later, list)
}

// PutOffUntil has something done once a time has come.
func (q Q) PutOffUntil(ctx context.Context, at time.Time, of river.JobArgs) error {
	return q.Q.PutOff(ctx, q.later, []river.InsertManyParams{{Args: of, InsertOpts: &river.InsertOpts{ScheduledAt: at}}})
}

// start begins with the work; it goes on until what it returns is called.
func (l *later) start(ctx context.Context) (end func(), err error) {
	// What the server before this one had in hand when it was killed is done now, and not when it is taken for stuck.
	if err := l.revive(ctx, l.folder); err != nil {
		return nil, err
	}
	// It outlives ctx by as long as it takes to give back what it was doing.
	if err := l.Start(context.WithoutCancel(ctx)); err != nil {
		return nil, err
	}
	return func() {
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		_ = l.StopAndCancel(within)
	}, nil
}
