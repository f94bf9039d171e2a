package runner

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/beside"
	"gentlepiston.example/piston/runner/checkout"
	"gentlepiston.example/piston/runner/executor"
	"gentlepiston.example/piston/runner/mirror"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/workspace"
)

// job is the work of one attempt, from the checkout to the last saved cache.
type job struct {
	*Runner
	attempt  *attempt.Attempt
	files    *workspace.Workspace
	box      *sandbox.Box
	limits   definition.Numbers
	checkout func(ctx context.Context) error
	networks *sandbox.Networks // where its network is from; nil when one is made for it
	from     int               // the first step to run
	at       int               // the step that failed, or else the last that was carried out
	stays    bool              // its files are not removed in the end
	linger   func(*job)        // has it stay for a look around, before it is cleared away; nil when it cannot
	secrets  api.SealedSecrets
	caches   []*cacheState
	mirror   *mirror.Mirror // what its checkout leans on; nil for nothing
	shelf    *client.Shelf  // where saved folders are that this machine does not have; nil when there is no such place
}

// task is what a job is made of.
type task struct {
	work    *api.Work
	folder  string // for its files
	post    attempt.Post
	service *client.Client   // nil for a trial
	as      *process.Account // whose its files and steps are
}

func (r *Runner) job(t task) *job {
	j := &job{Runner: r, files: workspace.New(t.folder, t.as), limits: t.work.Job.Limits.Numbers().Within(r.Most)}
	j.box = r.machine.Box(j.files.Build(), t.as, j.limits)
	j.attempt = attempt.New(attempt.Config{Work: t.work, Post: t.post, Service: t.service, Hide: j.files.Hiding.String,
		Runner: r.Name, MostLog: j.limits.Log, Caches: j.cacheUses, Log: r.Log})
	return j
}

// execute does a job that the service has given to a slot.
func (s *slot) execute(ctx context.Context, work *api.Work) {
	n := s.accounts.take()
	given := sync.OnceFunc(func() { s.accounts.giveBack(n) })
	j := s.job(task{work: work, folder: filepath.Join(s.place, "work", fmt.Sprint(work.Attempt)), post: s.Client,
		service: s.Client, as: s.Isolation.AccountOf(s.Home, n)})
	j.checkout, j.networks, j.shelf = j.checkoutCommit, s.networks, s.Client.ShelfOf(work.Attempt)
	lingers := false
	j.linger = func(j *job) {
		lingers = true
		s.stays.Go(func() {
			defer given()
			(&visits{job: j, open: map[record.ShellID]bool{}}).stay(s.claiming)
			j.clearAway()
		})
	}
	if j.do(ctx); !lingers {
		given()
	}
}

// do does the job and tells its post how it goes.
func (j *job) do(ctx context.Context) {
	log := j.attempt.Log
	log.Info("job begins")
	began := time.Now()
	result := j.attempt.Carry(ctx, j.run)
	word := string(state.Passed)
	if result != nil {
		word = result.Error()
	}
	log.Info("job ends", "took", time.Since(began).Round(time.Millisecond), "result", word)
	if j.attempt.Stays() && j.linger != nil {
		j.linger(j)
		return
	}
	j.clearAway()
}

// clearAway takes away all that the job has left.
func (j *job) clearAway() {
	j.box.Close() // its processes are dead; to take away what they were in takes a while, for which nobody waits
	if !j.stays {
		if err := j.files.Remove(); err != nil {
			j.attempt.Log.Warn("a workspace could not be removed", "folder", j.files.Folder(), "error", err)
		}
	}
	j.letGo() // when nothing of it is mounted any more
	j.wipe()
}

// run does the work; its error tells how the job ended.
func (j *job) run(ctx context.Context) error {
	if err := j.files.Make(); err != nil {
		return err
	}
	if err := j.openSecrets(); err != nil {
		return err
	}
	j.say("runner %s, %s, isolation %s, network %s", j.Name, platform(), j.Isolation, j.machine.Network)
	if n := j.attempt.Work.Env["PISTON_BUILD_NUMBER"]; j.attempt.Service == nil && n != "" {
		j.say("build number %s stands for the one that a service issues to each run, and never twice", n)
	}
	unwatch := beside.Do(ctx, func(ctx context.Context) { // from the first file of the checkout on
		j.files.WatchDisk(ctx, &j.use, j.limits.Disk, func(why string) { j.attempt.OverLimit("disk", why) })
	})
	defer unwatch()
	j.borrowMirror()
	opened := j.open(ctx)
	defer opened.wait() // before the box is closed
	if err := j.checkout(ctx); err != nil {
		return err
	}
	if j.from == 0 {
		j.restoreCaches(ctx)
		if err := j.takeFiles(ctx); err != nil {
			return err
		}
	}
	j.attempt.Prepared(api.Prepared{At: time.Now().UnixMilli(), Caches: j.cacheUses()})
	if err := opened.wait(); err != nil {
		return err
	}
	defer beside.Do(ctx, func(ctx context.Context) { j.box.Watch(ctx, j.attempt.OverLimit) })()
	if err := j.steps(ctx); err != nil {
		_ = j.keep(ctx, false) // of a failed job what is there is kept; that something is not is no news
		return err
	}
	if err := j.keep(ctx, true); err != nil {
		return err
	}
	if err := j.handFiles(ctx); err != nil {
		return err
	}
	unwatch() // what is saved is counted already, and to walk it twice at a time takes longer
	j.saveCaches(ctx)
	return ctx.Err()
}

// say writes a line into the log that belongs to no step.
func (j *job) say(format string, args ...any) { j.attempt.Say(attempt.Outside, format, args...) }

// opening is the making of what a job's steps are born into, beside the checkout.
type opening struct {
	ended chan struct{}
	err   error
}

// wait waits for its end.
func (o *opening) wait() error {
	<-o.ended
	return o.err
}

// open makes what the job's steps are born into. It goes on beside what the caller does, who waits for it.
func (j *job) open(ctx context.Context) *opening {
	outside := func(s *definition.Step) bool { return s.Skip == "" && s.Network != "none" && s.Network != "host" }
	wants := slices.ContainsFunc(j.attempt.Work.Job.Step, outside)
	o := &opening{ended: make(chan struct{})}
	go func() {
		defer close(o.ended)
		o.err = j.box.Open(ctx, fmt.Sprint(j.attempt.ID()), wants, j.networks)
	}()
	return o
}

// borrowMirror lends the job what this machine has of the repository, if it may see all of that, and can see nothing
// else of the machine.
func (j *job) borrowMirror() {
	work := j.attempt.Work
	if !work.Own || work.Fresh || j.attempt.Service == nil || j.Isolation == sandbox.None {
		return
	}
	of := fmt.Sprintf("%s %s %d %s", work.Project, work.Remote, len(work.Commit), work.Job.History)
	lent, err := j.mirrors.Borrow(of)
	if err == nil {
		if err = j.box.Lend(lent.Objects()); err != nil {
			err = errors.Join(err, lent.GiveBack())
		}
	}
	if err != nil {
		j.say("what this machine has of the repository is not used: %v", err)
		return
	}
	j.mirror = lent
}

func (j *job) checkoutCommit(ctx context.Context) error {
	c := &checkout.Checkout{Attempt: j.attempt, Files: j.files, Service: j.Client, CA: j.caFile, Reach: j.Reach,
		Disk: j.limits.Disk, Mirror: j.mirror}
	if opened := j.attempt.Work.Job.Submodules; opened != nil {
		c.Key = j.secrets[opened.Key]
	}
	return c.Bring(ctx)
}

// steps runs the steps in order. After one has failed only those run that always do; one whose failure is only
// reported changes nothing. The error is that of the first that counts.
func (j *job) steps(ctx context.Context) (failed error) {
	carrying := j.carrying()
	if err := carrying.TakeOver(attempt.Outside); err != nil {
		return err
	}
	for i, s := range j.attempt.Work.Job.Step {
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
			j.attempt.Report(i, api.StepReport{State: state.Skipped, Reason: j.attempt.Reason(why),
				At: time.Now().UnixMilli()})
			continue
		}
		carry := carrying.Run
		if len(s.Inputs) > 0 {
			carry = func(ctx context.Context, i int) error { return j.orReuse(ctx, carrying, i) }
		}
		if failed == nil {
			j.at = i
		}
		if err := carry(ctx, i); err != nil && failed == nil && !(s.Advisory && ctx.Err() == nil) {
			failed = err
		}
	}
	return failed
}

// carrying is what carries the job's steps out.
func (j *job) carrying() *executor.Job {
	return &executor.Job{Attempt: j.attempt, Files: j.files, Box: j.box, Secrets: j.secrets, Limits: j.limits,
		Kinds: j.attempt.Work.SecretKinds}
}

// openSecrets unseals what came for this job and prepares to hide it.
func (j *job) openSecrets() error {
	if len(j.attempt.Work.Secrets) > 0 {
		if err := j.unseal(); err != nil {
			return err
		}
	}
	values := make([]mask.Value, 0, len(j.secrets))
	for name, v := range j.secrets {
		values = append(values, mask.Value{Name: name, Text: v})
	}
	return j.files.Hide(values)
}

// wipe overwrites the secrets in memory; what else remembers them goes with the job.
func (j *job) wipe() {
	for _, v := range j.secrets {
		clear(v)
	}
	j.secrets, j.attempt.Work.Secrets = nil, nil
	j.files.Close()
}

func (j *job) unseal() error {
	r, err := age.Decrypt(bytes.NewReader(j.attempt.Work.Secrets), j.identity)
	if err != nil {
		return fmt.Errorf("the job's secrets are not sealed to this runner: %w", err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, &j.secrets)
}
