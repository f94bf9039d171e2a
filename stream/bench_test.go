package stream

import (
	"bytes"
	"testing"

	"gentlepiston.example/piston/core/logline"
)

func BenchmarkAppendLog(b *testing.B) {
	s, err := Open(b.Context(), b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	line := logline.Encode([]logline.Line{{At: 1700000000000, Text: string(bytes.Repeat([]byte("a line "), 16))}})
	const count = 4000
	text := bytes.Repeat(line, count)
	b.SetBytes(int64(len(text)))
	for i := range b.N {
		if err := s.AppendLog(b.Context(), Batch{ID: LogID{1, 1}, First: int64(i)*count + 1, Count: count, Text: text}); err != nil {
			b.Fatal(err)
		}
	}
}
