package try

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
)

func TestTheDeskKnowsWhatWasSaved(t *testing.T) {
	ctx := t.Context()
	d := newDesk(t.TempDir(), func(api.LogBatch) {})
	d.branch = "main"
	wants := func(key string) api.CacheWanted {
		return api.CacheWanted{Name: "c", Key: key, Shape: "s", Followed: map[string]string{"lock": key}}
	}
	_, err := d.FindCache(ctx, 1, wants("none"))
	assert.ErrorIs(t, err, client.ErrNotFound, "a miss is told as a service tells it")
	save := func(key string) string {
		saved, err := d.SaveTree(ctx, 1, api.CacheSaved{CacheWanted: wants(key)}, nil)
		require.NoError(t, err)
		return saved.Tree
	}
	first := save("k0")
	d.branch = "work"
	second := save("k1")
	found, err := d.FindCache(ctx, 1, wants("k0"))
	require.NoError(t, err)
	assert.True(t, found.Exact)
	assert.Equal(t, first, found.Tree)
	found, err = d.FindCache(ctx, 1, wants("k9"))
	require.NoError(t, err)
	assert.False(t, found.Exact)
	assert.Equal(t, second, found.Tree, "that of the branch is nearest")
	assert.Equal(t, []string{"lock"}, found.Differs)
	other := newDesk(t.TempDir(), func(api.LogBatch) {})
	_, err = other.FindCache(ctx, 1, wants("k0"))
	assert.ErrorIs(t, err, client.ErrNotFound, "another work tree's are its own")
	for i := range maxCopies + 3 {
		save(fmt.Sprint("more", i))
	}
	found, err = d.FindCache(ctx, 1, wants("k0"))
	require.NoError(t, err)
	assert.False(t, found.Exact, "the oldest went first")
	require.NoError(t, os.WriteFile(d.savedFile(), []byte("{"), 0o600))
	_, err = d.FindCache(ctx, 1, wants("k0"))
	assert.ErrorIs(t, err, client.ErrNotFound, "a list that is damaged is none")
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("the disk is gone") }

func TestTheDeskWritesNothingByHalves(t *testing.T) {
	ctx := t.Context()
	d := newDesk(t.TempDir(), func(api.LogBatch) {})
	id := d.open("core")
	require.NoError(t, d.HandOver(ctx, id, "library", strings.NewReader("whole")))
	assert.ErrorContains(t, d.HandOver(ctx, id, "library", io.MultiReader(strings.NewReader("half"), broken{})), "the disk is gone")
	r, err := d.Handover(ctx, id, "core", "library")
	require.NoError(t, err)
	defer r.Close()
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "whole", string(text), "what was there is as it was")
	entries, err := os.ReadDir(filepath.Join(d.folder, "hands", "core"))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	_, err = d.Handover(ctx, id, "docs", "library")
	assert.ErrorContains(t, err, `job "docs" has not handed it on yet`)
}

func TestWhatTheDeskIsToldBecomesAReport(t *testing.T) {
	ctx := t.Context()
	var printed []string
	d := newDesk(t.TempDir(), func(b api.LogBatch) {
		for _, l := range b.Lines {
			printed = append(printed, b.Job+" "+l.Text)
		}
	})
	o, _ := options(t, nil, "[[job.a.step]]\nname = \"lint\"\nadvisory = true\nscript = \"x\"\n[[job.a.step]]\nname = \"test\"\nscript = \"x\"\n[[job.a.step]]\nname = \"pack\"\nscript = \"x\"\n[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"x\"\n")
	jobs := plan.Jobs(o.Pipeline)
	id := d.open("a")
	at := time.Now().UnixMilli()
	one, two := 1, 2
	require.NoError(t, d.AppendLog(ctx, id, 1, logline.Encode([]logline.Line{{Text: "error: broken"}})))
	require.NoError(t, d.Prepared(ctx, id, api.Prepared{At: at}))
	require.NoError(t, d.ReportSteps(ctx, id, []api.StepReport{{Step: 0, State: state.Running, At: at}, {Step: 0, State: state.Failed, At: at + 10, ExitCode: &one},
		{Step: 1, State: state.Running, At: at + 10}, {Step: 1, State: state.Failed, At: at + 60, ExitCode: &two, Reason: "exit code 2", Tests: &api.TestReport{Passed: 3, Failed: 1}}}))
	_, err := d.Finish(ctx, id, api.Finish{State: state.Failed, Reason: "test failed", At: at + 61})
	require.NoError(t, err)
	assert.Equal(t, []string{"a error: broken"}, printed)
	jobs[0].State, jobs[0].Reason = state.Failed, "test failed"
	jobs[1].State, jobs[1].Reason = state.Skipped, "a failed"
	tr := &trial{Options: o, jobs: jobs, desk: d}
	r := tr.report()
	assert.Equal(t, state.Failed, r.State)
	require.Len(t, r.Jobs, 2)
	require.NotNil(t, r.Failure)
	assert.Equal(t, "test", r.Failure.Step, "a failure that is only reported is not what failed")
	assert.Equal(t, 2, *r.Failure.ExitCode)
	assert.Equal(t, "exit code 2", r.Reason)
	assert.Equal(t, 3, r.Jobs[0].Tests.Passed)
	assert.True(t, r.Jobs[0].Steps[0].Advisory)
	assert.EqualValues(t, 50, r.Jobs[0].Steps[1].Finished.Sub(*r.Jobs[0].Steps[1].Started).Milliseconds())
	assert.Equal(t, state.Skipped, r.Jobs[0].Steps[2].State)
	assert.Equal(t, "test", r.Jobs[0].Timing.Slowest)
	assert.Equal(t, state.Skipped, r.Jobs[1].State)
	assert.Nil(t, r.Jobs[1].Claimed)
}

func TestTheWorkspaceIsFilledAsAServiceWould(t *testing.T) {
	w := tree(t, map[string]string{"tool": "#!/bin/sh\n", "deep/a": "1", ".gitignore": "secret\n"}, map[string]string{"loose": "l", "secret": "s"})
	require.NoError(t, os.Symlink("deep/a", filepath.Join(w.Dir, "link")))
	require.NoError(t, os.Chmod(filepath.Join(w.Dir, "deep/a"), 0o600))
	again, err := source.OpenWorkTree(t.Context(), w.Dir)
	require.NoError(t, err)
	folder, to := t.TempDir(), t.TempDir()
	require.NoError(t, fill(t.Context(), again, folder, to, false, false, false))
	assert.FileExists(t, filepath.Join(to, ".git/HEAD"))
	assert.NoFileExists(t, filepath.Join(to, "loose"), "a push would be without it")
	all := t.TempDir()
	require.NoError(t, fill(t.Context(), again, folder, all, true, false, false))
	assert.FileExists(t, filepath.Join(all, "loose"))
	assert.NoFileExists(t, filepath.Join(all, "secret"))
	assert.NoFileExists(t, filepath.Join(to, "secret"), "what Git ignores stays out")
	for name, mode := range map[string]os.FileMode{"tool": 0o755, "deep/a": 0o644} {
		info, err := os.Stat(filepath.Join(to, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), name)
	}
	target, err := os.Readlink(filepath.Join(all, "link"))
	require.NoError(t, err)
	assert.Equal(t, "deep/a", target)

	// Going on: what has changed comes anew, what steps have made stays.
	require.NoError(t, os.WriteFile(filepath.Join(to, "made"), []byte("m"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(w.Dir, "deep/a"), []byte("22"), 0o600))
	require.NoError(t, fill(t.Context(), again, folder, to, false, true, false))
	text, err := os.ReadFile(filepath.Join(to, "deep/a"))
	require.NoError(t, err)
	assert.Equal(t, "22", string(text))
	assert.FileExists(t, filepath.Join(to, "made"))
}

// A trial deals among the variants of a job like a service does: between them they have everything, and each once.
func TestTheDeskDealsAmongTheVariants(t *testing.T) {
	d := newDesk(t.TempDir(), func(api.LogBatch) {})
	pipeline, found := definition.Parse("piston/check.toml", []byte(`[trigger.push]
[job.test]
variants = { over = { OS = ["low", "high"] } }
[[job.test.step]]
deal = { list = "cases.txt", into = "mine.txt" }
[[job.lint.step]]
script = "true"
`), nil)
	require.Empty(t, found)
	d.pipeline = pipeline
	items := []string{"tides", "moon", "harbours", "charts", "almanac"}
	var dealt []string
	for _, name := range pipeline.JobNames() {
		if name == "lint" {
			continue
		}
		mine, err := d.Deal(t.Context(), d.open(name), api.DealRequest{Step: 0, Items: items})
		require.NoError(t, err)
		assert.Equal(t, 2, mine.Among)
		assert.NotEmpty(t, mine.Items)
		dealt = append(dealt, mine.Items...)
	}
	assert.ElementsMatch(t, items, dealt)
}
