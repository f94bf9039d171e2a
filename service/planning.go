package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"strconv"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// maxVersionFile is far more than a version name needs; only the first line counts.
const maxVersionFile = 64 << 10

// parsed is one pipeline file of a commit, as found.
type parsed struct {
	name     string
	pipeline *definition.Pipeline
	findings []definition.Finding
}

// readPipelines reads the pipeline files of a commit.
func readPipelines(r *source.Reader, commit string) ([]parsed, error) {
	names, err := r.Names(commit, definition.Folder)
	if err != nil {
		return nil, err
	}
	var list []parsed
	for _, name := range names {
		full := path.Join(definition.Folder, name)
		if !definition.IsPipelineFile(full) {
			continue
		}
		f, err := r.File(commit, full, definition.MaxFileSize)
		if errors.Is(err, source.ErrNoObject) {
			continue // a folder, or a submodule
		}
		if err != nil {
			return nil, err
		}
		text := f.Text
		if text == nil {
			text = make([]byte, definition.MaxFileSize+1) // Parse says what is wrong with a file of this size
		}
		p, findings := definition.Parse(full, text)
		list = append(list, parsed{name[:len(name)-len(path.Ext(name))], p, findings})
	}
	return list, nil
}

// planEvent writes the runs an event starts. only names one pipeline, for a start by hand by person.
func (s *Service) planEvent(ctx context.Context, q store.Q, p store.Project, r *source.Reader, e plan.Event, person, only string) ([]store.Run, error) {
	commit, err := r.Commit(e.Commit)
	if err != nil {
		return nil, err
	}
	files, err := readPipelines(r, commit.ID)
	if err != nil {
		return nil, err
	}
	secrets, err := q.Secrets(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	var runs []store.Run
	for _, f := range files {
		if only != "" && f.name != only || f.pipeline != nil && !plan.Matches(f.pipeline, e) {
			continue
		}
		run := store.Run{ProjectID: p.ID, Project: p.Name, Pipeline: f.name, Trigger: e.Trigger, Branch: e.Branch, Tag: e.Tag,
			Commit: commit.ID, Subject: commit.Subject, Author: commit.Author, StartedBy: person, Queued: time.Now()}
		run.Findings.V = f.findings
		if f.pipeline != nil {
			run.VersionName, err = versionName(r, f.pipeline, commit.ID, &run.Findings.V)
			if err != nil {
				return nil, err
			}
			run.Findings.V = append(run.Findings.V, missingSecrets(p.Name, f.pipeline, secrets)...)
		}
		if definition.HasErrors(run.Findings.V) {
			err = s.addBroken(ctx, q, &run)
		} else {
			err = s.addRun(ctx, q, &run, f.pipeline)
		}
		if err != nil {
			return nil, err
		}
		runs = append(runs, run)
	}
	return runs, nil
}

// versionName reads the version name a pipeline builds; what is wrong with it becomes a finding.
func versionName(r *source.Reader, p *definition.Pipeline, commit string, findings *[]definition.Finding) (string, error) {
	if p.Version == nil {
		return "", nil
	}
	f, err := r.File(commit, p.Version.File, maxVersionFile)
	if err != nil && !errors.Is(err, source.ErrNoObject) {
		return "", err
	}
	name, nameErr := version.Name(string(f.Text))
	if err == nil {
		err = nameErr
	}
	if err != nil {
		*findings = append(*findings, definition.Finding{Code: "bad-version-file", Severity: definition.Error,
			File: p.Version.File, Message: err.Error(), Fix: "Put the version name, such as 1.4.0, on the file's first line."})
	}
	return name, nil
}

// missingSecrets finds the steps that ask for secrets nobody has set, before a minute is spent.
func missingSecrets(project string, p *definition.Pipeline, set []store.Secret) []definition.Finding {
	have := map[string]api.SecretKind{}
	for _, s := range set {
		have[s.Name] = api.SecretKind(s.Kind)
	}
	var found []definition.Finding
	for _, jobName := range p.JobNames() {
		for _, step := range p.Job[jobName].Step {
			for _, name := range step.AllSecrets() {
				if _, ok := have[name]; !ok {
					found = append(found, definition.Finding{Code: "secret-not-set", Severity: definition.Error,
						File: path.Join(definition.Folder, p.Name+".toml"), Line: step.Line,
						Message: fmt.Sprintf("step %q of job %q asks for the secret %s, which nobody has set", step.Name, jobName, name),
						Fix:     fmt.Sprintf("piston secret set %s %s", project, name)})
				}
			}
		}
	}
	return found
}

// addBroken writes a run that failed before it began, so that a mistake in a file is seen and not silence.
func (s *Service) addBroken(ctx context.Context, q store.Q, run *store.Run) error {
	now := time.Now()
	run.State, run.Finished = state.Failed, &now
	for _, f := range run.Findings.V {
		if f.Severity == definition.Error {
			run.Reason = f.Message
			run.FailedAt = fmt.Sprintf("%s:%d", f.File, f.Line)
			break
		}
	}
	if err := q.AddRun(ctx, run, false); err != nil {
		return err
	}
	return q.AddEvent(ctx, run.ProjectID, api.Change{Project: run.Project, Run: run.Number, State: run.State})
}

// addRun writes a run with its jobs, and the attempts of those that may start at once.
func (s *Service) addRun(ctx context.Context, q store.Q, run *store.Run, p *definition.Pipeline) error {
	run.State = state.Queued
	run.Env.V = maps.Clone(p.Env)
	if err := q.AddRun(ctx, run, true); err != nil {
		return err
	}
	for i, planned := range plan.Jobs(p) {
		job := store.Job{RunID: run.ID, Position: i, Name: planned.Name, State: planned.State, Ready: planned.Ready}
		job.Definition.V = planned.Definition
		if err := q.AddJob(ctx, &job); err != nil {
			return err
		}
		if planned.Ready {
			if _, err := q.AddAttempt(ctx, job, 1, planned.Definition, run.Queued); err != nil {
				return err
			}
		}
	}
	return q.AddEvent(ctx, run.ProjectID, api.Change{Project: run.Project, Run: run.Number, State: run.State})
}

// runEnv is what the service itself tells every step.
func runEnv(r store.Run) map[string]string {
	env := map[string]string{}
	maps.Copy(env, r.Env.V)
	for name, value := range map[string]string{
		"PISTON_PROJECT": r.Project, "PISTON_RUN": strconv.FormatInt(r.Number, 10), "PISTON_PIPELINE": r.Pipeline,
		"PISTON_TRIGGER": string(r.Trigger), "PISTON_BRANCH": r.Branch, "PISTON_TAG": r.Tag, "PISTON_COMMIT": r.Commit,
		"PISTON_BUILD_NUMBER": strconv.FormatInt(int64(r.BuildNumber), 10), "PISTON_VERSION_NAME": r.VersionName,
	} {
		env[name] = value
	}
	return env
}
