package runner

import (
	"bytes"
	"context"
	"sync/atomic"
	"testing"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/mask"
)

// BenchmarkOutput is what becomes of a step's output before it is sent: masking, cutting, looking for errors.
func BenchmarkOutput(b *testing.B) {
	text := bytes.Repeat([]byte("clang --target=aarch64-linux-android21 -std=gnu11 -O2 -Wall -c -o out/android/obj/main.o android/main.c\n"), 10_000)
	b.SetBytes(int64(len(text)))
	for range b.N {
		var sent atomic.Int64
		j := &job{work: &api.Work{Job: &definition.Job{}}, hide: newHiding([]mask.Value{{Name: "A", Text: []byte("a-secret-value")}, {Name: "B", Text: []byte("another-one")}}, "")}
		j.sink = newLogSink(context.Background(), func(_ context.Context, _ int64, p []byte) error { sent.Add(int64(len(p))); return nil }, nil)
		j.copyOutput(0, bytes.NewReader(text), &diagnose.Collector{})
		j.sink.close()
	}
}
