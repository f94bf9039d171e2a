package runner

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
)

// grace is how long a step has to end by itself after it was asked to (SIGTERM), before it is killed.
const grace = 5 * time.Second

// tooManyFiles is how programs say that they may open no more files (errno(3), EMFILE).
const tooManyFiles = "Too many open files"

// step runs one step and reports it; its error ends the job.
func (j *job) step(ctx context.Context, i int) error {
	step := j.work.Job.Step[i]
	first := j.sink.last() + 1
	j.report(i, api.StepReport{State: state.Running, At: time.Now().UnixMilli(), FirstLine: first})
	var matters diagnose.Collector
	before := j.group.counts()
	code, err := j.runStep(ctx, i, step, &matters)
	if err == nil && code != 0 && matters.Says(tooManyFiles) && j.limits.OpenFiles > 0 {
		err = ending{state.Failed,
			fmt.Sprintf("the job's limit of open files is reached: %d in one process", j.limits.OpenFiles)}
	}
	if reached := j.group.counts().since(before, j.limits); reached != "" && err == nil && code != 0 {
		err = ending{state.Failed, reached}
	}
	r := api.StepReport{State: state.Passed, At: time.Now().UnixMilli(), FirstLine: first}
	if code >= 0 {
		r.ExitCode = &code
	}
	if len(step.TestReports) > 0 {
		var none string
		r.Tests, none = j.testReports(i, step.TestReports, j.dirOf(step))
		if none != "" && err == nil && code == 0 && !step.TestsOptional {
			err = ending{state.Failed, none + "; a step that may do without says tests_optional = true"}
		}
	}
	if err == nil && code != 0 {
		err = fmt.Errorf("step %q ended with exit code %d", step.Name, code)
		r.Reason = fmt.Sprintf("exit code %d", code)
		network, _ := j.networkFor(step.Network) // it was asked before the step began
		if cause := j.hide.String(matters.Cause(diagnose.Failed{Code: code, Network: network})); cause != "" {
			err, r.Reason = fmt.Errorf("%w: %s", err, cause), r.Reason+": "+cause
		}
	} else if err != nil {
		r.Reason = cut(j.hide.String(err.Error()), 4000)
	}
	if err != nil {
		r.State = state.Failed
		var end ending
		if errors.As(err, &end) {
			r.State = end.state
		}
		j.say(i, "%s: %s", r.State, r.Reason)
		r.Excerpt = matters.Lines()
	}
	r.LastLine = j.sink.last()
	if r.LastLine < first {
		r.FirstLine, r.LastLine = 0, 0 // it printed nothing
	}
	j.report(i, r)
	return err
}

func (j *job) report(step int, r api.StepReport) {
	r.Step = step
	j.reports <- report{step: r}
}

// runStep executes a step's script; code is -1 when it has none.
func (j *job) runStep(ctx context.Context, i int, step *definition.Step, matters *diagnose.Collector) (code int,
	err error) {
	if step.Limit != "" {
		var release context.CancelFunc
		ctx, release = context.WithTimeoutCause(ctx, step.Limit.Value(),
			ending{state.TimedOut, fmt.Sprintf("the step's limit of %s is over", step.Limit)})
		defer release()
	}
	if ctx.Err() != nil {
		return -1, context.Cause(ctx)
	}
	if dir := j.dirOf(step); dir != "." {
		if info, err := j.root.Stat(dir); err != nil || !info.IsDir() {
			return -1, fmt.Errorf("the step's folder %q is not in the workspace; is it made by an earlier step, or misspelt?",
				dir)
		}
	}
	spec, err := j.prepareStep(i, step)
	if err != nil {
		return -1, err
	}
	defer func() { err = errors.Join(err, spec.cleanUp()) }()
	cmd, err := j.command(spec)
	if err != nil {
		return -1, err
	}
	reader, writer, err := os.Pipe()
	if err != nil {
		return -1, err
	}
	cmd.Stdout, cmd.Stderr = writer, writer
	if err := j.start(cmd, spec.network == "outside"); err != nil {
		reader.Close()
		writer.Close()
		return -1, fmt.Errorf("starting the step: %w", err)
	}
	writer.Close()
	j.at.Store(int64(cmd.Process.Pid))
	defer j.at.Store(0)
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		j.copyOutput(i, reader, matters)
	}()
	code, err = j.await(ctx, cmd)
	select {
	case <-copied:
	case <-time.After(grace): // without isolation a process that fled its group can hold the pipe open
	}
	reader.Close()
	<-copied
	return code, err
}

// copyOutput hides secrets, cuts lines, and logs them.
func (j *job) copyOutput(i int, r io.Reader, matters *diagnose.Collector) {
	lines := logline.NewSplitter(func(text string) {
		if l := j.sink.add(i, text); l.N > 0 {
			matters.Add(l)
		}
	})
	hidden := j.hide.masker.Load().Writer(func(p []byte) { _, _ = lines.Write(p) })
	buf := make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		// What a step declares it has declared before it printed this.
		if j.hide.look(func(format string, args ...any) { j.say(i, format, args...) }) {
			hidden.Use(j.hide.masker.Load())
		}
		_, _ = hidden.Write(buf[:n])
		if err != nil {
			break
		}
	}
	hidden.Flush()
	lines.Flush()
}

// await waits for a step. When ctx ends first, the step is asked to end, then killed, with everything it started.
func (j *job) await(ctx context.Context, cmd *exec.Cmd) (code int, err error) {
	ended := make(chan struct{})
	go func() {
		err = cmd.Wait()
		close(ended)
	}()
	stopped := false
	select {
	case <-ended:
	case <-ctx.Done():
		stopped = true
		askToEnd(cmd)
		select {
		case <-ended:
		case <-time.After(grace):
		}
	}
	kill(cmd)
	<-ended
	if stopped {
		return -1, context.Cause(ctx)
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exitCode(exit), nil
	}
	return 0, err
}

// stepSpec is a step ready to run.
type stepSpec struct {
	index   int
	dir     string // below the workspace
	script  string // file on the host
	shell   string
	secrets string // folder of secret files on the host, where they must be there; or ""
	files   []sandboxFile
	network string // outside, host or none
	env     map[string]string
	undo    []func() error

	interactive bool // it has the terminal
}

// dirOf is the folder a step runs in: its own, else the job's.
func (j *job) dirOf(step *definition.Step) string {
	if step.Dir != "" {
		return path.Clean(step.Dir)
	}
	return path.Clean(j.work.Job.Dir)
}

// interpreter is what runs a script, before the script's name.
func (s *stepSpec) interpreter() []string {
	switch s.shell {
	case definition.ShellBash:
		return []string{"/bin/bash", "-e", "-o", "pipefail"}
	case definition.ShellPython:
		return []string{"/usr/bin/env", "python3"}
	}
	return []string{"/bin/sh", "-e"}
}

func (s *stepSpec) cleanUp() (err error) {
	for _, undo := range s.undo {
		err = errors.Join(err, undo())
	}
	return err
}

// prepareStep writes the script and the secret files and gathers the environment. The most specific value wins:
// step, job, pipeline; a secret wins over all, and what the service sets cannot be set otherwise.
func (j *job) prepareStep(i int, step *definition.Step) (*stepSpec, error) {
	s := &stepSpec{index: i, dir: j.dirOf(step), shell: cmp.Or(step.Shell, j.work.Job.Shell), env: map[string]string{}}
	var err error
	if s.network, err = j.networkFor(step.Network); err != nil {
		return nil, err
	}
	for _, env := range []map[string]string{j.baseEnv(), j.work.Env, j.work.Job.Env, step.Env} {
		for k, v := range env {
			s.env[k] = v
		}
	}
	s.script = filepath.Join(j.dir, fmt.Sprintf("step-%d", i))
	if err := os.Remove(s.script); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	if err := os.WriteFile(s.script, []byte(step.Script), 0o444); err != nil {
		return nil, err
	}
	if err := j.placeSecrets(s, step); err != nil {
		return nil, errors.Join(err, s.cleanUp())
	}
	return s, nil
}

func (j *job) baseEnv() map[string]string {
	return map[string]string{
		"CI": "true", "LANG": "C.UTF-8", "TERM": "dumb", "PATH": stepPath(j.Isolation),
		"HOME": j.inside("home"), "TMPDIR": j.inside("tmp"), "PISTON_WORKSPACE": j.inside("src"),
		"PISTON_HIDE": j.inside(hideFile), "PISTON_JOB": j.work.Job.Name, "PISTON_ATTEMPT": fmt.Sprint(j.work.Number),
	}
}

// placeSecrets gives the step the secrets it lists: text as variables, files in a folder of their own or at the
// path the step names. What it places in the workspace is gone when the step has ended.
func (j *job) placeSecrets(s *stepSpec, step *definition.Step) error {
	for _, name := range step.Secrets {
		value, ok := j.secrets[name]
		if !ok {
			return errNoSecret(name)
		}
		if j.work.SecretKinds[name] != string(api.FileSecret) {
			s.env[access.SecretName(name).Variable()] = string(value)
			continue
		}
		variable := access.SecretName(name).Variable()
		at, err := j.placeOutside(s, variable, value)
		if err != nil {
			return err
		}
		s.env[variable] = at
	}
	for _, name := range slices.Sorted(maps.Keys(step.SecretFiles)) {
		at := step.SecretFiles[name]
		value, ok := j.secrets[name]
		if !ok {
			return errNoSecret(name)
		}
		if err := j.placeFile(s, path.Clean(at), value); err != nil {
			return fmt.Errorf("placing the secret %s at %s: %w", name, at, err)
		}
	}
	return nil
}

// sandboxFile is a file that is in a step's sandbox only, and on no disk.
type sandboxFile struct {
	name string
	text []byte
}

// placeSecretFolder writes a secret into a folder of the host that is gone after the step, and tells where it is.
func (j *job) placeSecretFolder(s *stepSpec, name string, value []byte) (string, error) {
	if s.secrets == "" {
		s.secrets = filepath.Join(j.dir, fmt.Sprintf("secrets-%d", s.index))
		if err := os.Mkdir(s.secrets, 0o700); err != nil {
			return "", err
		}
		s.undo = append(s.undo, func() error { return os.RemoveAll(s.secrets) })
	}
	at := filepath.Join(s.secrets, name)
	return at, os.WriteFile(at, value, 0o600)
}

func errNoSecret(name string) error {
	return fmt.Errorf("the secret %s was not given: since the run was planned it was dropped, has expired, or is kept "+
		"for other runs; mend that, then start the run anew", name)
}

// placeFile writes a secret into the workspace; a file that was there comes back after the step.
func (j *job) placeFile(s *stepSpec, at string, value []byte) error {
	if !filepath.IsLocal(at) {
		return errors.New("the path leaves the workspace")
	}
	for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
		if info, err := j.root.Lstat(dir); err == nil && !info.IsDir() {
			return fmt.Errorf("%s is no folder but %s, and a secret is only put where folders lead", dir, kindOf(info))
		}
	}
	var before []byte
	was, err := j.root.Lstat(at)
	switch {
	case err == nil && !was.Mode().IsRegular():
		return fmt.Errorf("%s is there already, and is no file but %s", at, kindOf(was))
	case err == nil:
		if before, err = j.root.ReadFile(at); err != nil {
			return err
		}
	}
	if err := makeFolder(j.root, j.account, path.Dir(at)); err != nil {
		return err
	}
	if err := j.root.RemoveAll(at); err != nil {
		return err
	}
	s.undo = append(s.undo, func() error {
		err := j.root.RemoveAll(at)
		if err == nil && was != nil {
			err = errors.Join(j.root.WriteFile(at, before, was.Mode().Perm()), j.account.takeIn(j.root, at))
		}
		return err
	})
	return errors.Join(j.root.WriteFile(at, value, 0o600), j.account.takeIn(j.root, at))
}

// kindOf says what a file is that is not a plain one.
func kindOf(info fs.FileInfo) string {
	switch {
	case info.IsDir():
		return "a folder"
	case info.Mode()&fs.ModeSymlink != 0:
		return "a symbolic link"
	case info.Mode().IsRegular():
		return "a file"
	}
	return "a device, a socket or a pipe"
}
