// Package zipped is for tests: it changes what is inside archives.
package zipped

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/mutate"
)

// most is how much of an entry is changed: what is read of one is at its beginning.
const most = 3000

// Each hands out archives in whose entries bytes are changed. Sums and sizes are right, so that who reads what is
// inside is reached.
func Each(t testing.TB, good []byte, do func(b []byte)) {
	t.Helper()
	a, err := archive.Open(bytes.NewReader(good), int64(len(good)))
	require.NoError(t, err)
	var all []byte
	var begins []int // of each entry, in all of them
	for _, e := range a.Entries() {
		text, err := a.Read(e, 1<<20)
		require.NoError(t, err)
		begins, all = append(begins, len(all)), append(all, text...)
	}
	pick := func(r *rand.Rand) int {
		i := r.IntN(len(begins))
		return min(begins[i]+r.IntN(max(min(int(a.Entries()[i].Size), most), 1)), len(all)-1)
	}
	mutate.Each(t, all, pick, func(all []byte) {
		var out bytes.Buffer
		w := archive.NewWriter(&out)
		for i, e := range a.Entries() {
			b := all[begins[i]:][:e.Size]
			require.NoError(t, w.AddFile(e.Name, bytes.NewReader(b), 0o644, false))
		}
		require.NoError(t, w.Close())
		do(out.Bytes())
	})
}
