package runner

import (
	"context"
	"errors"
	"log/slog"
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

// note is a post that remembers.
type note struct {
	attempt.Post
	finish api.Finish
	steps  []api.StepReport
}

func (n *note) AppendLog(context.Context, record.AttemptID, int64, []byte) error { return nil }
func (n *note) Beat(ctx context.Context, _ record.AttemptID) (api.Beat, error) {
	<-ctx.Done()
	return api.Beat{}, ctx.Err()
}
func (n *note) Prepared(context.Context, record.AttemptID, api.Prepared) error { return nil }
func (n *note) ReportSteps(_ context.Context, _ record.AttemptID, s []api.StepReport) error {
	n.steps = append(n.steps, s...)
	return nil
}
func (n *note) Finish(_ context.Context, _ record.AttemptID, f api.Finish) (api.Finished, error) {
	n.finish = f
	return api.Finished{}, nil
}

func TestATrialLeavesItsWorkspaceAndGoesOnInIt(t *testing.T) {
	r, err := NewTrial(t.Context(), Config{Name: "here", Home: t.TempDir(), Isolation: sandbox.Bubblewrap, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer r.Close()
	folder, post := t.TempDir(), &note{}
	trial := Trial{Folder: folder, Post: post, Secrets: api.SealedSecrets{"KEY": []byte("hush-hush-value")},
		Work: &api.Work{Attempt: 1, Number: 1, SecretKinds: map[string]string{"KEY": "text"}, Job: &definition.Job{Name: "a", Limit: "1m", Step: []*definition.Step{
			{Name: "one", Script: "echo 1 >> ran"}, {Name: "two", Script: `test "$KEY" = hush-hush-value; echo 2 >> ran; cat in`, Secrets: []string{"KEY"}}}}},
		Checkout: func(_ context.Context, workspace string) error {
			return os.WriteFile(filepath.Join(workspace, "in"), []byte("x"), 0o644)
		}}
	r.Try(t.Context(), trial)
	assert.Equal(t, state.Passed, post.finish.State, post.finish.Reason)
	assert.FileExists(t, filepath.Join(folder, "build/src/ran"))

	post.steps, trial.From = nil, 1
	r.Try(t.Context(), trial)
	assert.Equal(t, state.Passed, post.finish.State, post.finish.Reason)
	assert.Equal(t, state.Skipped, post.steps[0].State)
	text, err := os.ReadFile(filepath.Join(folder, "build/src/ran"))
	require.NoError(t, err)
	assert.Equal(t, "1\n2\n2\n", string(text))

	trial.Checkout = func(context.Context, string) error { return errors.New("the tree cannot be read") }
	r.Try(t.Context(), trial)
	assert.Equal(t, state.Failed, post.finish.State)
	assert.Contains(t, post.finish.Reason, "the tree cannot be read")
	trial.Folder = t.TempDir()
	assert.ErrorContains(t, r.Shell(t.Context(), trial, 0), "run it first, without --shell")
}
