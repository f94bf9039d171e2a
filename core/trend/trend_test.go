package trend

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// noise is a series as steps on shared machines have it: lognormal around a level, with a run now and then that takes
// far longer.
func noise(r *rand.Rand, n int, level, width float64) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = level * math.Exp(width*r.NormFloat64())
		if r.IntN(25) == 0 {
			list[i] *= 2.5
		}
	}
	return list
}

func TestSpreadOfValues(t *testing.T) {
	assert.Equal(t, Spread{}, Of(nil))
	assert.Equal(t, Spread{N: 1, Low: 7, Median: 7, High: 7, Least: 7, Most: 7}, Of([]float64{7}))
	assert.Equal(t, Spread{N: 4, Low: 1.75, Median: 2.5, High: 3.25, Least: 1, Most: 4}, Of([]float64{4, 1, 3, 2}))
}

func TestAChangeOfLevelIsFoundWhereItIs(t *testing.T) {
	exact, close, told, places := 0, 0, 0, 0
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 1))
		before, after := 10+r.IntN(40), 10+r.IntN(40)
		for _, c := range Changes(append(noise(r, before, 4000, 0.08), noise(r, after, 6500, 0.08)...)) {
			if c.At == before {
				exact++
			}
			if math.Abs(float64(c.At-before)) <= 2 && c.After > c.Before {
				close++
			}
			if c.After > c.Before {
				places += c.Last - c.First + 1
			}
			if c.After > c.Before && c.First <= before && before <= c.Last {
				told++
			}
		}
	}
	assert.GreaterOrEqual(t, exact, 900, "of 1000")
	assert.GreaterOrEqual(t, close, 980, "of 1000: an outlier beside it may draw it to itself")
	assert.GreaterOrEqual(t, told, 950, "of 1000 are where it is said they may be")
	assert.LessOrEqual(t, places, 2500, "and that is seldom wide")
}

func TestWhereLevelsMixMorePlacesAreTold(t *testing.T) {
	for name, of := range map[string]struct{ before, after, width float64 }{
		"little higher": {4000, 5500, 0.1}, "restless": {4000, 6500, 0.2}, "very restless": {4000, 12000, 0.35}} {
		found, told := 0, 0
		for seed := range uint64(500) {
			r := rand.New(rand.NewPCG(seed, 4))
			at := 10 + r.IntN(40)
			series := append(noise(r, at, of.before, of.width), noise(r, 10+r.IntN(40), of.after, of.width)...)
			for _, c := range Changes(series) {
				if c.After < c.Before || math.Abs(float64(c.At-at)) > 8 {
					continue // another one, that outliers make
				}
				found++
				if c.First <= at && at <= c.Last {
					told++
				}
			}
		}
		assert.Greater(t, found, 450, name)
		assert.GreaterOrEqual(t, float64(told), 0.95*float64(found), name)
	}
}

func TestNoiseIsNoChange(t *testing.T) {
	wrong := 0
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 2))
		if len(Changes(noise(r, 20+r.IntN(80), 4000, 0.15))) > 0 {
			wrong++
		}
	}
	assert.LessOrEqual(t, wrong, 15, "of 1000 series without any change")
}

func TestStepsUpAndDownAreToldInTheirOrder(t *testing.T) {
	series := append(level(10, 100), append(level(12, 300), level(9, 150)...)...)
	assert.Equal(t, []Change{{10, 10, 10, 100, 300}, {22, 22, 22, 300, 150}}, Changes(series))
	assert.Empty(t, Changes(level(50, 100)))
	assert.Empty(t, Changes(append(level(10, 100), 500, 100, 100, 100, 100)), "one slow run is no level")
	assert.Empty(t, Changes(append(level(10, 100), level(10, 105)...)), "a twentieth is not worth a word")
	assert.Empty(t, Changes(nil))
}

func TestTheLastIsSlowerThanUsual(t *testing.T) {
	_, is := LastSlower(level(20, 100), 20)
	assert.False(t, is)
	_, is = LastSlower([]float64{1, 900}, 20)
	assert.False(t, is, "nobody knows what is usual")

	one, is := LastSlower(append(level(20, 100), 300), 20)
	assert.True(t, is)
	assert.Equal(t, Slower{100, 20, 20, 20}, one, "by itself")

	few, is := LastSlower(append(level(20, 100), 300, 310), 20)
	assert.True(t, is)
	assert.Equal(t, Slower{100, 20, 20, 20}, few, "since the one before")

	since, is := LastSlower(append(level(20, 100), level(7, 300)...), 20)
	assert.True(t, is)
	assert.Equal(t, Slower{100, 20, 20, 20}, since)

	_, is = LastSlower(append(level(20, 100), level(25, 300)...), 20)
	assert.False(t, is, "that is usual now")
	_, is = LastSlower(append(level(20, 300), level(7, 100)...), 20)
	assert.False(t, is, "faster is not slower")
	_, is = LastSlower(append(append(level(20, 100), level(6, 300)...), 101), 20)
	assert.False(t, is, "this one was as before")
}

func TestNoiseIsSeldomSlower(t *testing.T) {
	wrong := 0
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 3))
		series := noise(r, 40, 4000, 0.1)
		series[39] = 4000 * math.Exp(0.1*r.NormFloat64())
		if _, is := LastSlower(series, 20); is {
			wrong++
		}
	}
	assert.LessOrEqual(t, wrong, 10, "of 1000 that are as usual")
}

// level is the same value over and over.
func level(n int, v float64) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = v
	}
	return list
}
