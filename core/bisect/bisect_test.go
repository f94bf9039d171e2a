package bisect

import (
	"math/bits"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// search tries what is asked for until nothing is, and gives how many tries that took.
func search(t *testing.T, n int, try func(i int) Verdict) (Answer, int) {
	tried := map[int]Verdict{}
	for {
		a := Of(n, tried)
		require.LessOrEqual(t, 0, a.First)
		require.LessOrEqual(t, a.First, a.Last)
		require.Less(t, a.Last, n)
		if a.Next < 0 {
			assert.Zero(t, a.Most)
			return a, len(tried)
		}
		require.Empty(t, tried[a.Next], "%d of %d is asked for again", a.Next, n)
		require.Positive(t, a.Most)
		tried[a.Next] = try(a.Next)
		if tried[a.Next] != Unclear {
			require.Less(t, Of(n, tried).Most, a.Most, "tries that were foretold: %v", tried)
		}
	}
}

// Whichever of whatever number of changes it is, it is found, in about as many tries as there are halvings.
func TestItFindsTheFirstBadChange(t *testing.T) {
	for n := 1; n < 70; n++ {
		for first := range n {
			a, tries := search(t, n, func(i int) Verdict {
				if i < first {
					return Passed
				}
				return Failed
			})
			assert.Equal(t, Answer{First: first, Last: first, Next: -1}, a, "%d of %d", first, n)
			assert.LessOrEqual(t, tries, bits.Len(uint(n))+1, "%d of %d", first, n)
		}
	}
}

// Changes that cannot be judged are gone around, and named when it may be one of them.
func TestWhatCannotBeJudgedIsSaid(t *testing.T) {
	for n := 1; n < 14; n++ {
		for first := range n {
			for from := range n - 1 {
				for to := from; to < n-1; to++ {
					a, _ := search(t, n, func(i int) Verdict {
						switch {
						case i >= from && i <= to:
							return Unclear
						case i < first:
							return Passed
						}
						return Failed
					})
					assert.LessOrEqual(t, a.First, first)
					assert.GreaterOrEqual(t, a.Last, first)
					if first < from || first > to+1 {
						assert.Equal(t, first, a.First, "%d of %d, unclear %d to %d", first, n, from, to)
						assert.Equal(t, first, a.Last)
					}
				}
			}
		}
	}
}

// A failure that came by chance is laid at no change's door.
func TestTheLastIsTriedAgainBeforeItIsNamed(t *testing.T) {
	for n := 1; n < 20; n++ {
		a, _ := search(t, n, func(int) Verdict { return Passed })
		assert.True(t, a.Again, "%d", n)
	}
	a, _ := search(t, 3, func(i int) Verdict {
		if i == 2 {
			return Unclear
		}
		return Passed
	})
	assert.Equal(t, Answer{First: 2, Last: 2, Next: -1}, a, "that it could not be tried again clears it of nothing")
}

// Verdicts that contradict each other end, too.
func TestContradictions(t *testing.T) {
	for seed := range 3 * 3 * 3 * 3 * 3 * 3 {
		left := seed
		search(t, 6, func(int) Verdict {
			v := []Verdict{Passed, Failed, Unclear}[left%3]
			left /= 3
			return v
		})
	}
}
