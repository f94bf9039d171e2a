package executor

import (
	"bytes"
	"context"
	"sync/atomic"
	"testing"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/workspace"
)

// drain is a post that counts the bytes of a log.
type drain struct {
	attempt.Post
	sent atomic.Int64
}

func (d *drain) AppendLog(_ context.Context, _ record.AttemptID, _ int64, text []byte) error {
	d.sent.Add(int64(len(text)))
	return nil
}

func (*drain) Beat(ctx context.Context, _ record.AttemptID) (api.Beat, error) {
	<-ctx.Done()
	return api.Beat{}, ctx.Err()
}

func (*drain) Finish(context.Context, record.AttemptID, api.Finish) (f api.Finished, err error) {
	return f, nil
}

// BenchmarkOutput is what becomes of a step's output before it is sent: masking, cutting, looking for errors.
func BenchmarkOutput(b *testing.B) {
	text := bytes.Repeat([]byte("clang --target=aarch64-linux-android21 -std=gnu11 -O2 -Wall -c -o out/android/obj/main.o android/main.c\n"), 10_000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		files := workspace.New("", nil)
		files.Hiding = workspace.NewHiding(mask.Value{Name: "A", Text: []byte("a-secret-value")}, mask.Value{Name: "B", Text: []byte("another-one")})
		a := attempt.New(attempt.Config{Work: &api.Work{Job: &definition.Job{Limit: "1h"}}, Post: &drain{}, Hide: files.Hiding.String,
			Caches: func() []api.CacheUse { return nil }})
		err := a.Carry(b.Context(), func(context.Context) error {
			script{&Job{Attempt: a, Files: files}}.read(0, bytes.NewReader(text), &diagnose.Collector{})
			return nil
		})
		if err != nil {
			b.Fatal(err)
		}
	}
}
