package runner

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/netns"
)

// outside is the step number of log lines that belong to no step.
const outside = -1

// job is one attempt at work.
type job struct {
	*Runner
	post     Post
	work     *api.Work
	dir      string // everything of this attempt is below it
	build    string // what its steps see of that: workspace, home, temporary files
	src      string // the workspace
	checkout func(ctx context.Context) error
	from     int  // the first step to run
	stays    bool // its folder is not removed in the end
	root     *os.Root
	nets     *netSlot // where its network is from
	account  *account // the host user of its steps, and of its files
	limits   definition.Numbers
	at       atomic.Int64   // the process of the step at work; 0 when none is
	network  *netns.Network // of its steps; nil where none is wanted
	launch   launchers
	group    *group // the processes of its steps; nil where there are no control groups
	secrets  api.SealedSecrets
	hide     *hiding
	sink     *logSink
	caches   []*cacheState
	reports  chan report
	cancel   context.CancelCauseFunc
}

// Workspace is where, below a job's folder, the checkout is that its steps work in.
func Workspace(folder string) string { return filepath.Join(folder, "build", "src") }

func (r *Runner) job(work *api.Work, dir string, post Post) *job {
	return &job{Runner: r, post: post, work: work, dir: dir, build: filepath.Join(dir, "build"), src: Workspace(dir),
		reports: make(chan report, 64),
		limits:  work.Job.Limits.Numbers().Within(r.Most), hide: newHiding(nil, "")}
}

// ending is why a job ends before its time.
type ending struct {
	state  state.State
	reason string
}

func (e ending) Error() string { return e.reason }

// errLost ends a job whose attempt is no longer this runner's: nobody wants to hear of it any more.
var errLost = errors.New("the attempt is no longer this runner's")

// errQuit ends a job because the runner itself is ending; another is to do it.
var errQuit = errors.New("the runner is ending")

func (r *Runner) execute(parent context.Context, work *api.Work, as *account, nets *netSlot) {
	j := r.job(work, filepath.Join(r.place, "work", fmt.Sprintf("%d", work.Attempt)), r.Client)
	j.checkout, j.account, j.nets = j.checkoutCommit, as, nets
	r.do(parent, j)
}

// do executes a job and tells its post how it goes.
func (r *Runner) do(parent context.Context, j *job) {
	work := j.work
	log := j.quietLog("project", work.Project, "run", work.Run, "job", work.Job.Name, "attempt", work.Number)
	log.Info("job begins")
	began := time.Now()
	ctx, cancel := context.WithCancelCause(parent)
	defer cancel(nil)
	j.cancel = cancel
	limited, release := context.WithTimeoutCause(ctx, work.Job.Limit.Value(),
		ending{state.TimedOut, fmt.Sprintf("the job's limit of %s is over", work.Job.Limit)})
	defer release()

	// Reports go on when the job is being ended; only the runner's own end or a lost attempt stops them.
	telling, hush := context.WithCancelCause(context.WithoutCancel(parent))
	defer hush(nil)
	defer context.AfterFunc(ctx, func() {
		if cause := context.Cause(ctx); errors.Is(cause, errLost) || parent.Err() != nil {
			hush(cause)
		}
	})()
	j.sink = newLogSink(telling, func(ctx context.Context, first int64, text []byte) error {
		return j.post.AppendLog(ctx, work.Attempt, first, text)
	}, j.broken)
	j.sink.most, j.sink.over = j.limits.Log, func() { j.overLimit("log", quantity.Bytes(j.limits.Log)) }
	var reporting sync.WaitGroup
	reporting.Go(func() { j.tell(telling) })
	defer beside(telling, j.beat)()

	result := j.run(limited)
	if parent.Err() != nil {
		result = errQuit
	}
	close(j.reports)
	j.sink.close()
	reporting.Wait()
	if result == nil {
		result = context.Cause(ctx) // the work is done, but what was told of it did not arrive
	}
	if errors.Is(result, errQuit) {
		j.handBack(log)
	} else {
		j.finish(telling, result, log)
	}
	if !j.stays {
		if err := RemoveAll(j.dir); err != nil {
			log.Warn("a workspace could not be removed", "folder", j.dir, "error", err)
		}
	}
	log.Info("job ends", "took", time.Since(began).Round(time.Millisecond), "result", resultWord(result))
	j.wipe()
}

func resultWord(err error) string {
	if err == nil {
		return string(state.Passed)
	}
	return err.Error()
}

// broken is called when the service no longer takes what we tell it.
func (j *job) broken(err error) {
	if errors.Is(err, client.ErrGone) {
		err = errLost
	}
	j.cancel(err)
}

// report is something to tell the service: that the job is prepared, or how a step stands.
type report struct {
	prepared *api.Prepared
	step     api.StepReport
}

// tell sends reports in their order, beside the work, so that a step does not wait for them. Steps that have been
// reported meanwhile go together.
func (j *job) tell(ctx context.Context) {
	var err error
	for r := range j.reports {
		for more := true; more && err == nil; {
			more = false
			if r.prepared != nil {
				err = j.post.Prepared(ctx, j.work.Attempt, *r.prepared)
				break
			}
			steps := []api.StepReport{r.step}
			for r, more = next(j.reports); more && r.prepared == nil; r, more = next(j.reports) {
				steps = append(steps, r.step)
			}
			err = j.post.ReportSteps(ctx, j.work.Attempt, steps)
		}
		if err != nil {
			j.broken(err)
			for range j.reports { // nobody wants the rest, but nobody may wait either
			}
		}
	}
}

// next takes a report that is there already.
func next(reports <-chan report) (r report, ok bool) {
	select {
	case r, ok = <-reports:
	default:
	}
	return r, ok
}

// beat tells the service that we live, and hears from it whether the job is still wanted.
func (j *job) beat(ctx context.Context) {
	for ctx.Err() == nil {
		answer, err := j.post.Beat(ctx, j.work.Attempt)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			j.broken(err)
			return
		case answer.Stop:
			end := ending{answer.State, answer.Reason}
			if end.state == "" {
				end.state = state.Cancelled
			}
			j.cancel(end)
			return
		}
	}
}

// oneLine keeps what has line breaks in it, such as a file's name, from becoming several lines.
var oneLine = strings.NewReplacer("\n", "\u240a", "\r", "\u240d", "\x00", "\u2400")

// say writes a line of our own into the log.
func (j *job) say(step int, format string, args ...any) {
	j.sink.add(step, j.hide.String(oneLine.Replace(fmt.Sprintf(format, args...))))
}

// run does the work; its error tells how the job ended.
func (j *job) run(ctx context.Context) (err error) {
	defer func() {
		// What ended the context says more than the error it caused.
		if cause := context.Cause(ctx); cause != nil && err != nil {
			err = cause
		}
	}()
	if err := j.makeFolders(); err != nil {
		return err
	}
	if err := j.openSecrets(); err != nil {
		return err
	}
	j.say(outside, "runner %s, %s, isolation %s, network %s", j.Name, platform(), j.Isolation, j.Network)
	if j.Client == nil {
		j.say(outside, "build number %s stands for the one that a service issues to each run, and never twice",
			j.work.Env["PISTON_BUILD_NUMBER"])
	}
	defer j.watchDisk(ctx)() // from the first file of the checkout on
	if err := j.checkout(ctx); err != nil {
		return err
	}
	if j.root, err = os.OpenRoot(j.src); err != nil {
		return err
	}
	defer j.root.Close()
	if j.from == 0 {
		j.restoreCaches(ctx)
		if err := j.takeFiles(ctx); err != nil {
			return err
		}
	}
	uses := j.cacheUses()
	at := time.Now().UnixMilli()
	j.reports <- report{prepared: &api.Prepared{At: at, Caches: uses}}
	if err := j.openGroup(); err != nil {
		return err
	}
	defer j.group.close()
	if err := j.openNetwork(ctx); err != nil {
		return err
	}
	defer j.closeNetwork()
	if err := j.openLaunchers(); err != nil {
		return err
	}
	defer j.closeLaunchers()
	defer j.watchProcesses(ctx)()
	if err := j.steps(ctx); err != nil {
		j.keep(ctx, false)
		return err
	}
	if err := j.keep(ctx, true); err != nil {
		return err
	}
	if err := j.handFiles(ctx); err != nil {
		return err
	}
	j.saveCaches(ctx)
	return ctx.Err()
}

// makeFolders makes what the job's files are in. Nobody but the job's own user gets in, nor the users of other slots.
func (j *job) makeFolders() error {
	if err := os.MkdirAll(j.dir, 0o700); err != nil {
		return err
	}
	for _, dir := range []string{j.dir, j.build, j.src, filepath.Join(j.build, "home"), filepath.Join(j.build, "tmp")} {
		if err := errors.Join(os.MkdirAll(dir, 0o755), j.account.take(dir)); err != nil {
			return err
		}
	}
	return nil
}

// steps runs the steps in order. After one has failed only those run that always do; one whose failure is only
// reported changes nothing. The error is that of the first that counts.
func (j *job) steps(ctx context.Context) (failed error) {
	for i, s := range j.work.Job.Step {
		why := s.Skip
		switch {
		case ctx.Err() != nil:
			return errors.Join(failed, ctx.Err())
		case i < j.from:
			why = "not wanted: the trial begins later"
		case why == "" && failed != nil && !s.Always:
			why = "a step before it failed"
		}
		if why != "" {
			j.report(i, api.StepReport{State: state.Skipped, Reason: cut(why, 4000), At: time.Now().UnixMilli()})
			continue
		}
		if err := j.step(ctx, i); err != nil && failed == nil && !(s.Advisory && ctx.Err() == nil) {
			failed = err
		}
	}
	return failed
}

// overLimit ends the job because it takes more than it may.
func (j *job) overLimit(what, most string) {
	j.cancel(ending{state.Failed, fmt.Sprintf("the job's limit of %s is reached: %s", what, most)})
}

// openSecrets unseals what came for this job and prepares to hide it.
func (j *job) openSecrets() error {
	if len(j.work.Secrets) > 0 {
		if err := j.unseal(); err != nil {
			return err
		}
	}
	values := make([]mask.Value, 0, len(j.secrets))
	for name, v := range j.secrets {
		values = append(values, mask.Value{Name: name, Text: v})
	}
	j.hide = newHiding(values, filepath.Join(j.build, hideFile))
	if err := j.hide.begin(); err != nil {
		return err
	}
	return j.account.take(j.hide.file)
}

// wipe overwrites the secrets in memory; what else remembers them goes with the job.
func (j *job) wipe() {
	for _, v := range j.secrets {
		clear(v)
	}
	j.secrets, j.work.Secrets, j.hide = nil, nil, newHiding(nil, "")
}

func (j *job) unseal() error {
	r, err := age.Decrypt(bytes.NewReader(j.work.Secrets), j.identity)
	if err != nil {
		return fmt.Errorf("the job's secrets are not sealed to this runner: %w", err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, &j.secrets)
}

// handBackWithin bounds what a runner that is ending takes to give a job back. When that fails, the attempt is lost.
const handBackWithin = 5 * time.Second

// handBack gives the job to another runner, since this one is ending.
func (j *job) handBack(log *slog.Logger) {
	ctx, cancel := context.WithTimeout(context.Background(), handBackWithin)
	defer cancel()
	err := j.post.HandBack(ctx, j.work.Attempt,
		api.HandBack{Reason: fmt.Sprintf("handed back: runner %s is ending", j.Name)})
	if err != nil {
		log.Warn("a job could not be handed back", "error", err)
	}
}

// finish tells how the attempt ended, unless it is not ours any more.
func (j *job) finish(ctx context.Context, result error, log *slog.Logger) {
	if errors.Is(result, errLost) {
		return
	}
	f := api.Finish{State: state.Passed, At: time.Now().UnixMilli(), Lines: j.sink.last(), Caches: j.cacheUses()}
	var end ending
	switch {
	case errors.As(result, &end):
		f.State, f.Reason = end.state, end.reason
	case result != nil:
		f.State, f.Reason = state.Failed, result.Error()
	}
	f.Reason = cut(j.hide.String(f.Reason), 4000)
	// An end that has been taken makes the next beat hear that the attempt is over, maybe before we hear that it was
	// taken.
	if err := j.post.Finish(ctx, j.work.Attempt, f); err != nil && !errors.Is(context.Cause(ctx), errLost) {
		log.Warn("the end of a job could not be reported", "error", err)
	}
}

func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return s[:most-3] + "…"
}
