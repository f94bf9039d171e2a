// Package mutate is for tests: it changes sound files a little, many times, as whoever looks for holes in a reader
// does.
package mutate

import (
	"bytes"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

// Variable says how many times instead of times; then each run of the tests tries other changes.
const Variable = "PISTON_MUTATIONS"

// times is how many mutations the tests try.
const times = 10_000

// Each hands out copies of a sound file in which up to six of the bytes at places that pick chooses are changed. A test
// that runs at length is to fail with what it was given.
func Each(t testing.TB, good []byte, pick func(r *rand.Rand) int, do func(b []byte)) {
	t.Helper()
	n, seed := times, uint64(1)
	if text := os.Getenv(Variable); text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil {
			t.Fatalf("%s is %q, which is no number", Variable, text)
		}
		seed = rand.Uint64()
		t.Logf("seed %d", seed)
	}
	r := rand.New(rand.NewPCG(seed, 2))
	b := bytes.Clone(good)
	for range n {
		copy(b, good)
		for range 1 + r.IntN(6) {
			at := pick(r)
			switch r.IntN(3) {
			case 0:
				b[at] ^= 1 << r.IntN(8)
			case 1:
				b[at] = []byte{0, 1, 0x7f, 0x80, 0xff}[r.IntN(5)]
			default:
				b[at] = byte(r.Uint32())
			}
		}
		do(b)
	}
}
