package runner

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/sandbox"
)

// states gives how each step ended.
func (f *fakeService) states() map[int]state.State {
	m := map[int]state.State{}
	for _, s := range f.steps {
		m[s.Step] = s.State
	}
	return m
}

func TestStepsThatAlwaysRunAndFailuresThatAreOnlyReported(t *testing.T) {
	f := execute(t, nil,
		&definition.Step{Name: "lint", Script: "exit 3", Advisory: true},
		&definition.Step{Name: "skipped", Script: "echo never", Skip: "its condition is not met: tag != \"\""},
		&definition.Step{Name: "test", Script: "exit 4"},
		&definition.Step{Name: "package", Script: "echo never"},
		&definition.Step{Name: "tidy", Script: "echo tidied", Always: true})
	assert.Equal(t, map[int]state.State{0: state.Failed, 1: state.Skipped, 2: state.Failed, 3: state.Skipped, 4: state.Passed}, f.states())
	assert.Equal(t, state.Failed, f.finish.State)
	assert.Contains(t, f.finish.Reason, `"test" ended with exit code 4`, "the failure that counts")
	assert.Contains(t, f.text(), "tidied")
	assert.NotContains(t, f.text(), "never")

	f = execute(t, nil, &definition.Step{Name: "lint", Script: "exit 3", Advisory: true}, &definition.Step{Name: "test", Script: "true"})
	assert.Equal(t, state.Passed, f.finish.State)
	assert.Equal(t, state.Failed, f.states()[0], "it is reported all the same")
}

func TestAStopEndsWhatAlwaysRunsToo(t *testing.T) {
	f := execute(t, func(_ *api.Work, f *fakeService, _ *Runner) {
		f.stop <- api.Beat{Stop: true, State: state.TimedOut, Reason: "the run's limit of 1m is over"}
	}, &definition.Step{Name: "long", Script: "sleep 60"}, &definition.Step{Name: "tidy", Script: "echo tidied", Always: true})
	assert.Equal(t, state.TimedOut, f.finish.State)
	assert.NotContains(t, f.text(), "tidied")
}

func TestShellsAndFolders(t *testing.T) {
	f := execute(t, func(w *api.Work, _ *fakeService, _ *Runner) { w.Job.Dir = "deep"; w.Job.Shell = "bash" },
		&definition.Step{Name: "make", Dir: ".", Shell: "sh", Script: "mkdir -p deep/er; set -o | grep pipefail || echo plain sh"},
		&definition.Step{Name: "bash", Script: `a=(one two); echo "${a[1]} in ${PWD##*/}"`},
		&definition.Step{Name: "python", Dir: "deep/er", Shell: "python3", Script: "import os\nprint('python in', os.path.basename(os.getcwd()))"},
		&definition.Step{Name: "a pipe that breaks", Script: "false | true"})
	assert.Equal(t, map[int]state.State{0: state.Passed, 1: state.Passed, 2: state.Passed, 3: state.Failed}, f.states(), f.text())
	assert.Contains(t, f.text(), "two in deep\npython in er\n")
}

// shelf keeps what jobs hand on.
type shelf struct {
	attempt.Post
	kept map[string][]byte
}

func (s *shelf) HandOver(_ context.Context, _ record.AttemptID, name string, content io.Reader) error {
	text, err := io.ReadAll(content)
	s.kept["core/"+name] = text
	return err
}

func (s *shelf) Handover(_ context.Context, _ record.AttemptID, job, name string) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(s.kept[job+"/"+name])), nil
}

func TestJobsHandFilesOn(t *testing.T) {
	s := &shelf{kept: map[string][]byte{}}
	run := func(change func(*job)) (*job, string) {
		r, err := NewTrial(t.Context(), Config{Name: "t", Home: t.TempDir(), Isolation: sandbox.Bubblewrap})
		require.NoError(t, err)
		defer r.Close()
		j := r.job(task{work: &api.Work{Job: &definition.Job{Name: "x"}}, folder: t.TempDir(), post: s})
		require.NoError(t, j.files.Make())
		t.Cleanup(j.files.Close)
		if change != nil {
			change(j)
		}
		return j, j.files.Source()
	}
	core, src := run(func(j *job) {
		j.attempt.Work.Job.Hand = map[string]*definition.Hand{"library": {Name: "library", Files: []string{"out/*.so", "out/deep/**"}}}
	})
	require.NoError(t, os.MkdirAll(filepath.Join(src, "out/deep"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(src, "out/a.so"), []byte("a"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(src, "out/deep/b"), []byte("b"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(src, "out/not"), []byte("x"), 0o644))
	require.NoError(t, core.handFiles(t.Context()))

	app, src := run(func(j *job) { j.attempt.Work.Takes = []string{"core/library"} })
	require.NoError(t, os.MkdirAll(filepath.Join(src, "out"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(src, "out/a.so"), []byte("of the repository"), 0o644))
	require.NoError(t, app.takeFiles(t.Context()))
	text, err := os.ReadFile(filepath.Join(src, "out/a.so"))
	require.NoError(t, err)
	assert.Equal(t, "a", string(text), "what is handed on wins")
	info, err := os.Stat(filepath.Join(src, "out/a.so"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&0o100, "a program stays one")
	assert.FileExists(t, filepath.Join(src, "out/deep/b"))
	assert.NoFileExists(t, filepath.Join(src, "out/not"))

	empty, _ := run(func(j *job) {
		j.attempt.Work.Job.Hand = map[string]*definition.Hand{"none": {Name: "none", Files: []string{"nowhere/*"}}}
	})
	assert.ErrorContains(t, empty.handFiles(t.Context()), "nothing matches nowhere/*")
}

func TestToolsAreFoundByAskingThem(t *testing.T) {
	dir := t.TempDir()
	write := func(name, script string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	}
	write("gradle", "echo 'Welcome'; echo 'Gradle 8.10.2'")
	write("flutter", "exit 1")
	write("ndk", "echo Pkg.Revision = 26.1.10909125")
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	found := FindTools(t.Context(), sandbox.None, []Probe{{"ndk", dir + "/ndk"}, {"absent", "no-such-program --version"}}, nil)
	assert.Equal(t, "8.10.2", found["gradle"])
	assert.Equal(t, "26.1.10909125", found["ndk"])
	assert.NotContains(t, found, "flutter", "one that fails is not there")
	assert.NotContains(t, found, "absent")
	assert.Regexp(t, `^2\.`, found["git"])
	only := FindTools(t.Context(), sandbox.None, nil, map[string]bool{"git": true})
	assert.Len(t, only, 1)

	write("jarsigner", "touch "+dir+"/was-run")
	box := newToolbox(map[string]string{"git": "2.39"}, nil)
	box.lookFor(t.Context(), sandbox.None, []string{"jarsigner", "no-such-tool", "../sh", "gradle"})
	var claim api.ClaimRequest
	box.tell(&claim)
	assert.Equal(t, map[string]string{"git": "2.39", "jarsigner": "", "gradle": "8.10.2"}, claim.Tools)
	assert.Contains(t, claim.Lacks, "no-such-tool")
	assert.Contains(t, claim.Lacks, "../sh")
	assert.NoFileExists(t, dir+"/was-run", "nothing is run because a pipeline names it")
}

func TestWhatCannotBeTakenFailsTheJob(t *testing.T) {
	f := execute(t, func(w *api.Work, _ *fakeService, _ *Runner) { w.Takes = []string{"core/library"} }, &definition.Step{Script: "echo never"})
	assert.Equal(t, state.Failed, f.finish.State)
	assert.Contains(t, f.finish.Reason, "taking core/library")
	assert.NotContains(t, f.text(), "never")
}
