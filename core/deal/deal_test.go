package deal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var cases = []Case{{"tide.test", "low water", 100}, {"tide.test", "springs", 300}, {"moon", "rises", 50},
	{"", "alone", 7}, {"tests/charts_test", "north", 20}}

// Items are known by the names that tools give them.
func TestWhatAnItemTakes(t *testing.T) {
	times := By(cases)
	for item, want := range map[string]int64{
		"tide.test › springs": 300, "tide.test::springs": 300, "tide/test/springs": 300, "springs": 300, "low water": 100,
		"tide.test": 400, "moon": 50, "moon#rises": 50, "alone": 7, "tests/charts_test.c": 20, "charts_test.c": 20,
		"src/moon.spec": 50, "x/y/charts_test": 20, `tests\charts_test.c`: 20,
	} {
		ms, known := times.Of(item)
		assert.True(t, known, item)
		assert.Equal(t, want, ms, item)
	}
	for _, item := range []string{"", "nobody", "tests", "tide", "a.b.c", "."} {
		_, known := times.Of(item)
		assert.False(t, known, item)
	}
}

func TestShares(t *testing.T) {
	shares, known := Out([]string{"moon › rises", "tide.test › springs", "new", "tide.test › low water"}, By(cases), 2)
	assert.Equal(t, 3, known)
	assert.Equal(t, []Share{{[]string{"tide.test › springs"}, 300}, {[]string{"moon › rises", "new", "tide.test › low water"}, 300}},
		shares, "what is new counts as the others do")
	shares, known = Out([]string{"a", "b", "c"}, Times{}, 5)
	assert.Zero(t, known)
	assert.Len(t, shares, 5)
	assert.Equal(t, []string{}, shares[4].Items, "there may be fewer than jobs")
	shares, _ = Out(nil, By(cases), 1)
	assert.Equal(t, []Share{{[]string{}, 0}}, shares)
}

// Whatever is dealt, each is dealt once, and nobody has more to do than a third above the best there can be.
func TestAnyDeal(t *testing.T) {
	pen := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		var list []Case
		var items []string
		most, sum := int64(0), int64(0)
		for i := range pen.IntN(60) {
			ms := pen.Int64N(1000)
			list = append(list, Case{"s", fmt.Sprint("c", i), ms})
			items = append(items, fmt.Sprint("s › c", i))
			most, sum = max(most, ms), sum+ms
		}
		pen.Shuffle(len(items), func(i, j int) { items[i], items[j] = items[j], items[i] })
		n := 1 + pen.IntN(8)
		shares, known := Out(items, By(list), n)
		require.Equal(t, len(items), known)
		require.Len(t, shares, n)
		all := []string{}
		for _, s := range shares {
			at := -1
			for _, item := range s.Items {
				is := slices.Index(items, item)
				require.Greater(t, is, at, "in their order")
				at = is
			}
			all = append(all, s.Items...)
			// Not less than the best is: the mean, and the longest.
			require.LessOrEqual(t, s.Ms, max(sum/int64(n)+most, most))
		}
		slices.Sort(all)
		slices.Sort(items)
		require.Equal(t, append([]string{}, items...), all)
		again, _ := Out(items, By(list), n)
		same, _ := Out(items, By(list), n)
		require.Equal(t, again, same)
	}
}
