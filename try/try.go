// Package try runs a pipeline on this machine, on a work tree as it is: the engine, the sandbox, the caches, the
// masking and the report are those of a service, which it does without. What it leaves behind stays until the next
// time, to look around in and to go on from.
package try

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/workspace"
	"gentlepiston.example/piston/source"
)

// Options say what to try.
type Options struct {
	Tree      *source.WorkTree
	Pipeline  *definition.Pipeline
	Project   string
	Job       string // only this one; "" for all
	From      string // step to begin at, in the workspace that the last trial has left
	Trigger   plan.Trigger
	Tag       string // when the trigger is a tag
	Inputs    map[string]string
	Secret    func(name string) (Secret, error)
	Untracked bool // also what Git neither tracks nor ignores
	Isolation sandbox.Isolation
	Program   []string // the command that prepares a job's network from within
	Reach     reach.Policy
	Slots     int     // jobs at a time; 0 for one
	Shared    *Shared // what runs of the project have saved; nil when that is not looked at
	Print     func(api.LogBatch)
}

// Secret is a secret's value on this machine.
type Secret struct {
	Kind  api.SecretKind `json:"kind"`
	Value []byte         `json:"value"`
}

// ErrNotPossible says that a trial cannot begin; the message says why.
var ErrNotPossible = errors.New("this cannot be tried")

// trial is a run of a pipeline without a service.
type trial struct {
	Options
	folder  string
	runner  *runner.Runner
	jobs    []plan.Job
	desk    *desk
	facts   condition.Facts
	env     map[string]string
	secrets map[string]Secret
	detail  api.RunDetail

	sweeping sync.WaitGroup // of what earlier trials left behind
}

// Folder is where what a tree's trials leave behind is kept.
func Folder(tree string) (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("there is no place to work in: %w; set XDG_CACHE_HOME", err)
	}
	sum := sha256.Sum256([]byte(tree))
	return filepath.Join(cache, "piston", "try", filepath.Base(tree)+"-"+hex.EncodeToString(sum[:4])), nil
}

// Run tries a pipeline and reports what came of it.
func Run(ctx context.Context, o Options) (api.RunDetail, error) {
	t, err := prepare(ctx, o)
	if err != nil {
		return api.RunDetail{}, err
	}
	t.runAll(ctx)
	t.runner.Close()
	t.sweeping.Wait()
	if ctx.Err() != nil {
		for i := range t.jobs {
			if !t.jobs[i].State.Over() {
				t.jobs[i].State, t.jobs[i].Reason = state.Cancelled, "stopped"
			}
		}
	}
	return t.report(), nil
}

// runAll runs jobs as they become ready, as many at a time as there are slots.
func (t *trial) runAll(ctx context.Context) {
	ended := make(chan *plan.Job)
	working := 0
	for {
		for t.settle() {
		}
		for i := range t.jobs {
			if j := &t.jobs[i]; j.State == state.Queued && j.Ready && working < max(1, t.Slots) && ctx.Err() == nil {
				working++
				j.State = state.Running
				copied := *j
				go func() {
					t.run(ctx, &copied)
					ended <- &copied
				}()
			}
		}
		if working == 0 {
			return
		}
		done := <-ended
		working--
		*t.find(done.Name) = *done
	}
}

// settle applies the results so far. What a trial does not do, it takes for done, and tells so: it asks nobody, and
// brings nothing to people. It reports whether there was such a job, so that more may have become ready.
func (t *trial) settle() (more bool) {
	plan.Settle(t.jobs, t.facts)
	for i := range t.jobs {
		switch j := &t.jobs[i]; {
		case j.State == state.Waiting:
			j.State, j.Reason, more = state.Passed, "a trial asks nobody; a run would wait for an answer", true
		case j.State == state.Queued && j.Ready && j.Definition.ByService():
			j.State, j.Reason, more = state.Passed, "a trial leaves out what the service does itself", true
		}
	}
	return more
}

// Shell opens a shell in what the last trial of a job has left, as a step of it would find it.
func Shell(ctx context.Context, o Options) error {
	t, err := prepare(ctx, o)
	if err != nil {
		return err
	}
	defer t.runner.Close()
	j := t.find(o.Job)
	if j == nil {
		return fmt.Errorf("%w: a shell needs a job: give --job", ErrNotPossible)
	}
	step := 0
	if o.From != "" {
		if step, err = t.stepOf(j, o.From); err != nil {
			return err
		}
	} else if last, err := os.ReadFile(filepath.Join(t.jobFolder(j.Name), lastStepFile)); err == nil {
		step = max(0, slices.IndexFunc(j.Definition.Step, func(s *definition.Step) bool { return s.Name == string(last) }))
	}
	return t.runner.Shell(ctx, t.trialOf(j, step), step)
}

// lastStepFile holds the name of the step at which a job's last trial ended.
const lastStepFile = "last-step"

func prepare(ctx context.Context, o Options) (*trial, error) {
	t := &trial{Options: o, secrets: map[string]Secret{}}
	var err error
	if t.folder, err = Folder(o.Tree.Dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(t.folder, 0o700); err != nil {
		return nil, err
	}
	t.desk = newDesk(t.folder, o.Print)
	t.desk.branch, t.desk.shared = o.Tree.Branch, o.Shared
	t.desk.pipeline = o.Pipeline
	t.desk.versions = versions{tree: t.Tree, tag: t.Tag, given: map[string]api.Raised{}}
	if err := t.describe(ctx); err != nil {
		return nil, err
	}
	t.jobs = plan.Jobs(o.Pipeline)
	if err := t.choose(); err != nil {
		return nil, err
	}
	if err := t.fetchSecrets(); err != nil {
		return nil, err
	}
	tools, err := t.findTools(ctx)
	if err != nil {
		return nil, err
	}
	t.runner, err = runner.NewTrial(ctx, runner.Config{Name: "this machine",
		Home: filepath.Join(filepath.Dir(t.folder), "runner"), Isolation: o.Isolation,
		Program: o.Program, Reach: o.Reach, Tools: tools, Log: slog.New(slog.DiscardHandler)})
	return t, err
}

// buildNumber stands where a service would issue one.
const buildNumber = 1

// firstNumber is the build number that steps find: none, where one of them takes it from the ledger.
func (t *trial) firstNumber() string {
	if t.Pipeline.Raises() {
		return ""
	}
	return strconv.Itoa(buildNumber)
}

// describe gathers what steps and conditions are told.
func (t *trial) describe(ctx context.Context) error {
	w, p := t.Tree, t.Pipeline
	texts, values, err := definition.AcceptAll(p.Input, t.Inputs)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotPossible, err)
	}
	subject, author := w.About(ctx)
	// A proposal is tried as one from outside: what it is refused there it is refused here.
	branch, trusted := w.Branch, t.Trigger != plan.OnProposal
	if t.Trigger == plan.OnTag || !trusted {
		branch = ""
	}
	t.facts = condition.Facts{Trigger: string(t.Trigger), Branch: branch, Tag: t.Tag, Commit: w.Commit, Subject: subject,
		Author: author, Trusted: trusted, Input: values}
	if p.AsksFor("changed") {
		t.facts.Changed = t.changed(ctx)
	}
	name := ""
	if p.Version != nil {
		text, err := os.ReadFile(filepath.Join(w.Dir, filepath.FromSlash(p.Version.File)))
		if err == nil {
			name, err = version.Name(string(text))
		}
		if err != nil {
			return fmt.Errorf("%w: the version in %s: %w", ErrNotPossible, p.Version.File, err)
		}
	}
	if err := t.tagFits(name); err != nil {
		return err
	}
	t.env = maps.Clone(p.Env)
	if t.env == nil {
		t.env = map[string]string{}
	}
	for input, text := range texts {
		t.env[(&definition.Input{Name: input}).Variable()] = text
	}
	maps.Copy(t.env, map[string]string{"PISTON_PROJECT": t.Project, "PISTON_RUN": "0", "PISTON_PIPELINE": p.Name,
		"PISTON_TRIGGER": string(t.Trigger),
		"PISTON_BRANCH":  branch, "PISTON_TAG": t.Tag, "PISTON_COMMIT": w.Commit, "PISTON_TARGET": "",
		"PISTON_TRUSTED":      strconv.FormatBool(trusted),
		"PISTON_BUILD_NUMBER": t.firstNumber(), "PISTON_VERSION_NAME": name})
	t.detail = api.RunDetail{Run: api.Run{Project: t.Project, Pipeline: p.Name, Trigger: t.Trigger, Branch: branch,
		Tag: t.Tag, Outside: !trusted, Commit: w.Commit, Subject: subject,
		Author: author, VersionName: name, State: state.Queued, Queued: time.Now()}, Jobs: []api.Job{},
		Artifacts: []api.Artifact{}}
	return nil
}

// tagFits refuses to try a tag that says another version than the file that names it: the release would be of neither.
func (t *trial) tagFits(name string) error {
	tagged, err := version.Name(strings.TrimPrefix(t.Tag, "v"))
	if t.Tag == "" || err != nil || name == "" || tagged == name {
		return nil
	}
	return fmt.Errorf("%w: the tag %s says version %s, and %s says %s; correct one of them before you push the tag",
		ErrNotPossible, t.Tag, tagged, t.Pipeline.Version.File, name)
}

// changed lists what differs from where the branch left the main one; everything when that is not known.
func (t *trial) changed(ctx context.Context) []string {
	for _, main := range []string{"origin/HEAD", "origin/main", "main", "origin/master", "master"} {
		if paths, all := t.Tree.ChangedSince(ctx, main); !all {
			return paths
		}
	}
	var all []string
	for _, e := range t.Tree.Entries {
		all = append(all, e.Path)
	}
	return all
}

// choose keeps the one job that is wanted; those before it count as passed.
func (t *trial) choose() error {
	if t.Job == "" {
		if t.From != "" {
			return fmt.Errorf("%w: --from begins at a step of one job: give --job, too", ErrNotPossible)
		}
		return nil
	}
	if t.find(t.Job) == nil {
		return fmt.Errorf("%w: pipeline %s has no job %q; there are: %s", ErrNotPossible, t.Pipeline.Name, t.Job,
			strings.Join(t.Pipeline.JobNames(), ", "))
	}
	for i := range t.jobs {
		if t.jobs[i].Name != t.Job {
			t.jobs[i].State, t.jobs[i].Reason = state.Passed, "not wanted"
		}
	}
	return nil
}

func (t *trial) find(name string) *plan.Job {
	for i := range t.jobs {
		if t.jobs[i].Name == name {
			return &t.jobs[i]
		}
	}
	return nil
}

func (t *trial) stepOf(j *plan.Job, name string) (int, error) {
	var names []string
	for i, s := range j.Definition.Step {
		if s.Name == name {
			return i, nil
		}
		names = append(names, s.Name)
	}
	return 0, fmt.Errorf("%w: job %q has no step %q; there are: %s", ErrNotPossible, j.Name, name,
		strings.Join(names, ", "))
}

// fetchSecrets gets every secret that may be needed, before anything runs; what is missing is said all at once.
func (t *trial) fetchSecrets() error {
	var missing []error
	for _, j := range t.jobs {
		for _, s := range j.Definition.Step {
			if j.State.Over() || !plan.MayRun(j.Definition, s, t.facts) {
				continue
			}
			if names := s.AllSecrets(); len(names) > 0 && !t.facts.Trusted {
				missing = append(missing, errors.New(check.RefusedSecrets(t.Pipeline, j.Definition, s, check.FromOutside).String()))
				continue
			}
			for _, name := range s.AllSecrets() {
				if _, have := t.secrets[name]; have {
					continue
				}
				v, err := t.Secret(name)
				if err != nil {
					missing = append(missing, err)
				}
				t.secrets[name] = v
			}
		}
	}
	if missing != nil {
		return fmt.Errorf("%w: %w", ErrNotPossible, errors.Join(missing...))
	}
	return nil
}

// findTools asks this machine for the tools the jobs name.
func (t *trial) findTools(ctx context.Context) (map[string]string, error) {
	wanted := map[string]bool{}
	for _, j := range t.jobs {
		for name := range j.Definition.Tools {
			wanted[name] = wanted[name] || !j.State.Over()
		}
		for _, s := range j.Definition.Step {
			for _, name := range runner.DependsOn(s) {
				wanted[name] = true
			}
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	tools := runner.FindTools(ctx, t.Isolation, nil, wanted)
	for _, j := range t.jobs {
		if j.State.Over() {
			continue
		}
		if lacks, ok := (schedule.Runner{Tools: tools}).Can(nil, j.Definition.Tools); !ok {
			name, _, _ := strings.Cut(strings.TrimPrefix(lacks, "tool "), " ")
			found, has := tools[name]
			switch {
			case !has:
				found = "none"
			case found == "":
				found = "one whose version it cannot tell"
			}
			return nil, fmt.Errorf("%w: job %q needs %s, and this machine has %s", ErrNotPossible, j.Name, lacks, found)
		}
	}
	return tools, nil
}

func (t *trial) jobFolder(name string) string { return jobFolder(t.folder, name) }

func jobFolder(folder, job string) string { return filepath.Join(folder, "jobs", job) }

// Workspace is where the last trial of a tree's job has left its files.
func Workspace(tree, job string) (string, error) {
	folder, err := Folder(tree)
	return workspace.Source(jobFolder(folder, job)), err
}

func (t *trial) trialOf(j *plan.Job, from int) runner.Trial {
	id := t.desk.open(j.Name)
	takes := []string{}
	if len(j.Definition.Take) > 0 {
		takes = t.Pipeline.Takes(j.Definition)
	}
	w := &api.Work{Attempt: id, Number: 1, Project: t.Project, Pipeline: t.Pipeline.Name, Job: j.Definition,
		Commit: t.Tree.Commit, Env: maps.Clone(t.env), Raised: t.raisedBefore(j.Name),
		SecretKinds: map[string]string{}, Takes: takes, HostNetwork: true}
	for _, given := range w.Raised {
		maps.Copy(w.Env, given.Env)
	}
	secrets := api.SealedSecrets{}
	for _, s := range j.Definition.Step {
		for _, name := range s.AllSecrets() {
			if v, have := t.secrets[name]; have && s.Skip == "" {
				secrets[name], w.SecretKinds[name] = v.Value, string(v.Kind)
			}
		}
	}
	var shelf *client.Shelf
	if t.Shared != nil {
		shelf = t.Shared.Client.ShelfFor(t.Shared.Project)
	}
	return runner.Trial{Shelf: shelf, Work: w, Folder: t.jobFolder(j.Name), Secrets: secrets, Post: t.desk, From: from,
		Checkout: func(ctx context.Context, workspace string) error {
			return fill(ctx, t.Tree, t.folder, workspace, t.Untracked, from > 0, j.Definition.History == "full")
		}}
}

func (t *trial) run(ctx context.Context, j *plan.Job) {
	from := 0
	if t.From != "" {
		var err error
		if from, err = t.stepOf(j, t.From); err != nil {
			j.State, j.Reason = state.Failed, err.Error()
			return
		}
	}
	if from == 0 {
		if err := t.sweep(t.jobFolder(j.Name)); err != nil {
			j.State, j.Reason = state.Failed, err.Error()
			return
		}
	} else if _, err := os.Stat(workspace.Source(t.jobFolder(j.Name))); err != nil {
		j.State, j.Reason = state.Failed, "there is no workspace of this job yet to go on in; try it without --from first"
		return
	}
	trial := t.trialOf(j, from)
	t.runner.Try(ctx, trial)
	done := t.desk.of(trial.Work.Attempt)
	j.State, j.Reason = done.end.State, done.end.Reason
	if j.State == "" {
		j.State, j.Reason = state.Cancelled, "stopped"
	}
	for i, s := range done.steps {
		if s.State == state.Failed || s.State == state.TimedOut {
			_ = os.WriteFile(filepath.Join(t.jobFolder(j.Name), lastStepFile), []byte(j.Definition.Step[i].Name), 0o600)
			break
		}
	}
}

// sweep moves a folder out of the way and removes it beside the work.
func (t *trial) sweep(dir string) error {
	aside := filepath.Join(t.folder, fmt.Sprintf("old-%d-%s", os.Getpid(), filepath.Base(dir)))
	err := os.Rename(dir, aside)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	t.sweeping.Go(func() { _ = disk.RemoveAll(aside) })
	return nil
}

// DefaultIsolation is that of this system.
func DefaultIsolation() sandbox.Isolation {
	if runtime.GOOS == "linux" {
		return sandbox.Bubblewrap
	}
	return sandbox.None
}
