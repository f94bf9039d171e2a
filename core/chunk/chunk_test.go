package chunk

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func noise(seed uint64, n int) []byte {
	p := make([]byte, n)
	rng := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = rng.Read(p)
	return p
}

func cut(p []byte) (pieces [][]byte) {
	for len(p) > 0 {
		n := Next(p)
		pieces, p = append(pieces, p[:n]), p[n:]
	}
	return pieces
}

func TestPiecesAreAllThereAndWithinBounds(t *testing.T) {
	for _, n := range []int{0, 1, Least, Least + 1, Most, Most + 1, 3_000_000} {
		for what, p := range map[string][]byte{"noise": noise(uint64(n), n), "zeros": make([]byte, n)} {
			pieces := cut(p)
			require.Equal(t, len(p), len(bytes.Join(pieces, nil)), what)
			for i, piece := range pieces {
				assert.LessOrEqual(t, len(piece), Most)
				if i < len(pieces)-1 {
					assert.Greater(t, len(piece), Least)
				}
			}
		}
	}
	pieces := cut(noise(7, 32<<20))
	mean := 32 << 20 / len(pieces)
	assert.InDelta(t, Normal, mean, Normal/2, "pieces have %d bytes in the mean", mean)
}

func TestWhatIsPutInChangesFewPieces(t *testing.T) {
	before := noise(1, 8<<20)
	known := map[ID]bool{}
	for _, p := range cut(before) {
		known[Sum(p)] = true
	}
	for _, at := range []int{0, 1 << 20, 5_000_001, len(before)} {
		after := append(append(bytes.Clone(before[:at]), "one line more\n"...), before[at:]...)
		fresh := 0
		for _, p := range cut(after) {
			if !known[Sum(p)] {
				fresh++
			}
		}
		assert.LessOrEqual(t, fresh, 3, "put in at %d", at)
		assert.Positive(t, fresh)
	}
}

// What is kept today must be found by tomorrow's program.
func TestCutsAndNamesStayWhatTheyAre(t *testing.T) {
	var lengths []int
	for _, p := range cut(noise(3, 1<<20)) {
		lengths = append(lengths, len(p))
	}
	assert.Equal(t, []int{76041, 92623, 86919, 77187, 83838, 94632, 102581, 83838, 72877, 19782, 46879, 100555, 74401,
		36423}, lengths)
	assert.Equal(t, "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262", Sum(nil).String(),
		"of nothing, as BLAKE3 has it")
	assert.Equal(t, "af1349b9f5f9", Sum(nil).Short())
}

func FuzzNext(f *testing.F) {
	f.Add([]byte("tide"), 3)
	f.Fuzz(func(t *testing.T, p []byte, times int) {
		p = bytes.Repeat(p, times&0xff+1)
		assert.Equal(t, p, bytes.Join(append(cut(p), []byte{}), nil))
	})
}

func BenchmarkNext(b *testing.B) {
	p := noise(1, 8<<20)
	b.SetBytes(int64(len(p)))
	for b.Loop() {
		cut(p)
	}
}
