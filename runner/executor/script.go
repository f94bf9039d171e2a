package executor

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/traced"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/workspace"
)

// tooManyFiles is how programs say that they may open no more files (errno(3), EMFILE).
const tooManyFiles = "Too many open files"

// script carries out a step that is a script, in the sandbox.
type script struct{ *Job }

func (s script) execute(ctx context.Context, i int, step *definition.Step) (out Outcome) {
	var matters diagnose.Collector
	before := s.Box.Counts()
	code, err := s.run(ctx, i, step, &matters)
	if code >= 0 {
		out.ExitCode = &code
	}
	if err == nil && code != 0 {
		err = s.limitMet(before, &matters)
	}
	if s.Sealed != nil {
		harvestErr := s.Sealed.View.Harvest(ctx)
		if err == nil && code == 0 {
			err = harvestErr
		}
	}
	if len(step.TestReports) > 0 {
		var aside string
		out.Tests, aside, err = s.tests(ctx, i, step, code, err)
		if err == nil && aside != "" {
			code, out.Note = 0, aside
		}
	}
	if err == nil && code != 0 {
		err = fmt.Errorf("step %q ended with exit code %d", step.Name, code)
		out.Reason = fmt.Sprintf("exit code %d", code)
		network, _ := s.network(step) // it was asked before the step began
		if cause := s.Attempt.Hide(matters.Cause(diagnose.Failed{Code: code, Network: network})); cause != "" {
			err, out.Reason = fmt.Errorf("%w: %s", err, cause), out.Reason+": "+cause
		}
		if s.Sealed != nil {
			if read := s.Sealed.Reads(matters.Lines()); read != "" {
				read = fmt.Sprintf("the step read %s, which is not among its inputs", read)
				err, out.Reason = errors.New(read), read
			}
		}
	}
	out.Err, out.Excerpt = err, matters.Lines()
	return out
}

// limitMet says which of the job's limits a script that failed has met; nil when it met none.
func (s script) limitMet(before sandbox.Counts, matters *diagnose.Collector) error {
	if s.Limits.OpenFiles > 0 && matters.Says(tooManyFiles) {
		return attempt.Ending{State: state.Failed,
			Reason: fmt.Sprintf("the job's limit of open files is reached: %d in one process", s.Limits.OpenFiles)}
	}
	if reached := s.Box.Counts().Since(before, s.Limits); reached != "" {
		return attempt.Ending{State: state.Failed, Reason: reached}
	}
	return nil
}

// network decides which network a step is given.
func (j *Job) network(step *definition.Step) (string, error) {
	if len(step.Inputs) > 0 {
		return "none", nil
	}
	return j.Box.NetworkFor(step.Network, j.Attempt.Work.HostNetwork)
}

// run runs the script; code is -1 when it has none.
func (s script) run(ctx context.Context, i int, step *definition.Step, matters *diagnose.Collector) (code int,
	err error) {
	if dir := s.DirOf(step); dir != "." && s.Sealed == nil {
		if info, err := s.Files.Stat(dir); err != nil || !info.IsDir() {
			return -1, fmt.Errorf("the step's folder %q is not in the workspace; is it made by an earlier step, or misspelt?",
				dir)
		}
	}
	spec, err := s.Prepare(i, step, step.Script)
	if err != nil {
		return -1, err
	}
	defer func() { err = errors.Join(err, spec.CleanUp()) }()
	return s.Box.Run(ctx, spec, func(output io.Reader) { s.read(i, output, matters) })
}

// read hides secrets in a step's output, cuts lines, and logs them.
func (s script) read(i int, output io.Reader, matters *diagnose.Collector) {
	printed := 0
	lines := logline.NewSplitter(func(text string) {
		if l := s.Attempt.Add(i, text); l.N > 0 {
			matters.Add(l)
		}
		if s.Sealed != nil {
			printed += len(text) + 1
			if s.Sealed.Long = printed > mostPrinted; !s.Sealed.Long {
				s.Sealed.Lines = append(s.Sealed.Lines, text)
			}
		}
	})
	hiding := s.Files.Hiding
	hidden := hiding.Masker().Writer(func(p []byte) { _, _ = lines.Write(p) })
	buf := make([]byte, 64<<10)
	for {
		n, err := output.Read(buf)
		// What a step declares it has declared before it printed this.
		if hiding.Look(func(format string, args ...any) { s.Attempt.Say(i, format, args...) }) {
			hidden.Use(hiding.Masker())
		}
		_, _ = hidden.Write(buf[:n])
		if err != nil {
			break
		}
	}
	hidden.Flush()
	lines.Flush()
}

// interpreters are what runs a script, before the script's name, by the shell.
var interpreters = map[string][]string{
	"":                     {"/bin/sh", "-e"},
	definition.ShellSh:     {"/bin/sh", "-e"},
	definition.ShellBash:   {"/bin/bash", "-e", "-o", "pipefail"},
	definition.ShellPython: {"/usr/bin/env", "python3"},
}

// Prepare makes a step ready to run a text: it writes that and the secret files and gathers the environment. The most
// specific value wins: step, job, pipeline; a secret wins over all, and what the service sets cannot be set otherwise.
func (j *Job) Prepare(i int, step *definition.Step, text string) (*sandbox.Spec, error) {
	work := j.Attempt.Work
	shell := step.Shell
	if shell == "" {
		shell = work.Job.Shell
	}
	spec := &sandbox.Spec{Dir: j.DirOf(step), Command: interpreters[shell], Env: j.Environment(step)}
	if id, err := traced.Read(work.Trace); err == nil && j.Sealed == nil { // what is reused is of no run
		spec.Env["TRACEPARENT"] = id.Parent(id.Step(j.Attempt.ID(), i))
	}
	if j.Sealed != nil {
		spec.View = j.Sealed.View.Part
		j.Sealed.Env(spec.Env)
	}
	var err error
	if spec.Network, err = j.network(step); err != nil {
		return nil, err
	}
	if spec.Script, err = j.Files.Beside(fmt.Sprintf("step-%d", i), []byte(text), 0o444); err != nil {
		return nil, err
	}
	if err := j.placeSecrets(i, spec, step); err != nil {
		return nil, errors.Join(err, spec.CleanUp())
	}
	return spec, nil
}

// Environment is what a step finds as variables, but for its secrets.
func (j *Job) Environment(step *definition.Step) map[string]string {
	env := map[string]string{
		"CI": "true", "LANG": "C.UTF-8", "TERM": "dumb", "PATH": sandbox.StepPath(j.Box.Isolation),
		"HOME": j.Box.Inside("home"), "TMPDIR": j.Box.Inside("tmp"), "PISTON_WORKSPACE": j.Box.Inside("src"),
		"PISTON_HIDE": j.Box.Inside(workspace.HideFile), "PISTON_JOB": j.Attempt.Work.Job.Name,
		"PISTON_ATTEMPT": fmt.Sprint(j.Attempt.Work.Number),
	}
	for _, more := range []map[string]string{j.Attempt.Work.Env, j.Attempt.Work.Job.Env, step.Env} {
		maps.Copy(env, more)
	}
	return env
}

// placeSecrets gives the step the secrets it lists: text as variables, files in a folder of their own or at the
// path the step names. What it places in the workspace is gone when the step has ended.
func (j *Job) placeSecrets(i int, spec *sandbox.Spec, step *definition.Step) error {
	for _, name := range step.Secrets {
		value, ok := j.Secrets[name]
		if !ok {
			return errNoSecret(name)
		}
		variable := access.SecretName(name).Variable()
		if j.Kinds[name] != string(api.FileSecret) {
			spec.Env[variable] = string(value)
			continue
		}
		at, err := j.placeOutside(i, spec, variable, value)
		if err != nil {
			return err
		}
		spec.Env[variable] = at
	}
	for _, name := range slices.Sorted(maps.Keys(step.SecretFiles)) {
		value, ok := j.Secrets[name]
		if !ok {
			return errNoSecret(name)
		}
		at := step.SecretFiles[name]
		var err error
		if j.Sealed != nil {
			err = j.Sealed.View.Place(path.Clean(at), value)
		} else {
			var undo func() error
			undo, err = j.Files.Place(path.Clean(at), value)
			spec.Undo(undo)
		}
		if err != nil {
			return fmt.Errorf("placing the secret %s at %s: %w", name, at, err)
		}
	}
	return nil
}

// placeOutside puts a secret's file beside the workspace, on no disk where that can be.
func (j *Job) placeOutside(i int, spec *sandbox.Spec, variable string, value []byte) (at string, err error) {
	if j.Box.NeedsFolder() && spec.Secrets == "" {
		if spec.Secrets, err = j.Files.BesideFolder(fmt.Sprintf("secrets-%d", i)); err != nil {
			return "", err
		}
		spec.Undo(func() error { return disk.RemoveAll(spec.Secrets) })
	}
	return j.Box.PlaceSecret(spec, variable, value)
}

func errNoSecret(name string) error {
	return fmt.Errorf("the secret %s was not given: since the run was planned it was dropped, has expired, or is kept "+
		"for other runs; mend that, then start the run anew", name)
}
