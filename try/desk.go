package try

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// desk is the runner's post without a service: it prints log lines, remembers reports, and keeps caches and what jobs
// hand on in folders.
type desk struct {
	folder string
	branch string  // of the work tree
	shared *Shared // what runs have saved; nil when that is not looked at
	print  func(api.LogBatch)

	mu       sync.Mutex
	jobs     map[record.AttemptID]*told
	versions versions
	pipeline *definition.Pipeline
	key      throwAway
}

// told is what a job has told so far.
type told struct {
	name      string
	claimed   time.Time
	prepared  time.Time
	steps     map[int]api.StepReport
	started   map[int]time.Time
	caches    []api.CacheUse
	artifacts []api.Artifact
	lines     int64
	end       api.Finish
	ended     time.Time
}

func newDesk(folder string, print func(api.LogBatch)) *desk {
	return &desk{folder: folder, print: print, jobs: map[record.AttemptID]*told{}}
}

// open begins a job and gives it the id of its attempt.
func (d *desk) open(name string) record.AttemptID {
	d.mu.Lock()
	defer d.mu.Unlock()
	id := record.AttemptID(len(d.jobs) + 1)
	d.jobs[id] = &told{name: name, claimed: time.Now(), steps: map[int]api.StepReport{}, started: map[int]time.Time{}}
	return id
}

// RanCases keeps nothing: a trial is no part of a test's history, and nothing is set aside in one.
func (d *desk) RanCases(context.Context, record.AttemptID, api.CasesRan) (api.CasesNoted, error) {
	return api.CasesNoted{}, nil
}

func (d *desk) of(attempt record.AttemptID) *told {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.jobs[attempt]
}

func (d *desk) with(attempt record.AttemptID, do func(*told)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	do(d.jobs[attempt])
	return nil
}

func (d *desk) AppendLog(_ context.Context, attempt record.AttemptID, first int64, text []byte) error {
	lines, err := logline.Decode(first, text)
	if err != nil || len(lines) == 0 {
		return err
	}
	d.print(api.LogBatch{Job: d.of(attempt).name, Attempt: 1, Lines: lines})
	return d.with(attempt, func(t *told) { t.lines = lines[len(lines)-1].N })
}

// Beat has no news: whoever tries a pipeline stops it by Ctrl-C.
func (d *desk) Beat(ctx context.Context, _ record.AttemptID) (api.Beat, error) {
	<-ctx.Done()
	return api.Beat{}, ctx.Err()
}

func (d *desk) Prepared(_ context.Context, attempt record.AttemptID, in api.Prepared) error {
	return d.with(attempt, func(t *told) { t.prepared, t.caches = time.UnixMilli(in.At), in.Caches })
}

func (d *desk) ReportSteps(_ context.Context, attempt record.AttemptID, steps []api.StepReport) error {
	return d.with(attempt, func(t *told) {
		for _, s := range steps {
			if _, began := t.started[s.Step]; !began {
				t.started[s.Step] = time.UnixMilli(s.At)
			}
			t.steps[s.Step] = s
		}
	})
}

func (d *desk) HandBack(_ context.Context, attempt record.AttemptID, in api.HandBack) error {
	return d.with(attempt, func(t *told) { t.end = api.Finish{State: state.Cancelled, Reason: in.Reason} })
}

func (d *desk) Finish(_ context.Context, attempt record.AttemptID, in api.Finish) (api.Finished, error) {
	return api.Finished{}, d.with(attempt, func(t *told) {
		t.end, t.ended, t.caches = in, time.UnixMilli(in.At), in.Caches
	})
}

func (d *desk) KeepArtifact(_ context.Context, attempt record.AttemptID, name, file, sha256 string,
	open func() (io.ReadCloser, error)) error {
	content, err := open()
	if err != nil {
		return err
	}
	defer content.Close()
	job := d.of(attempt).name
	at := filepath.Join("kept", job, filepath.FromSlash(file))
	if err := d.put(at, content); err != nil {
		return err
	}
	info, err := os.Stat(filepath.Join(d.folder, at))
	if err != nil {
		return err
	}
	return d.with(attempt, func(t *told) {
		t.artifacts = append(t.artifacts,
			api.Artifact{Job: job, Name: name, Path: file, Size: info.Size(), SHA256: sha256, Created: time.Now()})
	})
}

func (d *desk) HandOver(_ context.Context, attempt record.AttemptID, name string, content io.Reader) error {
	return d.put(filepath.Join("hands", d.of(attempt).name, name), content)
}

func (d *desk) Handover(_ context.Context, _ record.AttemptID, job, name string) (io.ReadCloser, error) {
	f, err := os.Open(filepath.Join(d.folder, "hands", job, name))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("job %q has not handed it on yet; try that job first", job)
	}
	return f, err
}

// put writes a file whole or not at all.
func (d *desk) put(name string, content io.Reader) error {
	full := filepath.Join(d.folder, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
		return err
	}
	half, err := os.CreateTemp(filepath.Dir(full), ".half-*")
	if err != nil {
		return err
	}
	defer os.Remove(half.Name())
	if _, err := io.Copy(half, content); err != nil {
		half.Close()
		return err
	}
	if err := half.Close(); err != nil {
		return err
	}
	return os.Rename(half.Name(), full)
}
