// Package trend tells from how long something took, run by run, what is usual, since when it takes longer, and whether
// one time is out of the ordinary. It knows no unit: whoever asks in milliseconds is answered in them.
//
// It works on ranks and medians, so that one run on a busy machine moves nothing. What it finds it has to be sure of: a
// change that is not told costs little, one that is none costs the trust in all others.
package trend

import (
	"math"
	"slices"
)

// Spread is how values lie.
type Spread struct {
	N int
	// The middle value, and those that a quarter of all are below and above (linear between neighbours).
	Low, Median, High float64
	Least, Most       float64
}

// Of sums values up; the zero Spread for none.
func Of(values []float64) Spread {
	if len(values) == 0 {
		return Spread{}
	}
	v := slices.Sorted(slices.Values(values))
	return Spread{N: len(v), Low: quantile(v, 0.25), Median: quantile(v, 0.5), High: quantile(v, 0.75), Least: v[0],
		Most: v[len(v)-1]}
}

// quantile of sorted values, between two of them in proportion (Hyndman and Fan's seventh definition).
func quantile(v []float64, p float64) float64 {
	at := p * float64(len(v)-1)
	below := int(at)
	if below+1 >= len(v) {
		return v[len(v)-1]
	}
	return v[below] + (at-float64(below))*(v[below+1]-v[below])
}

// Change is a place where values begin to lie elsewhere.
type Change struct {
	// Index of the first value of the new level, as is likeliest, and of the first and the last value that may be it
	// as well.
	At, First, Last int
	// The medians of both levels.
	Before, After float64
}

const (
	// fewest values make a level: fewer may be chance.
	fewest = 4
	// sure is how many standard deviations the sum of ranks must be off. With as many splits looked at as there are
	// values, noise alone comes to 3 in about every twentieth series.
	sure = 3.3
	// least share by which a level must lie elsewhere to be worth a word.
	least = 0.1
	// likely is by how much the logarithm of the likelihood of another place may be less than the best one's: with it
	// the true place is among those told in more than nineteen of twenty series of many kinds (see the tests).
	likely = 3
)

// Changes finds where values begin to lie elsewhere, oldest first: where the ranks of both sides differ by more than
// chance would have it (Mann and Whitney), values are cut in two such that they are strewn least around both medians,
// and so on in both parts. A change is one when ranks, medians and quartiles agree.
func Changes(values []float64) []Change {
	var cuts []int
	split(values, 0, &cuts)
	slices.Sort(cuts)
	var list []Change
	for i, at := range cuts {
		from, to := 0, len(values)
		if i > 0 {
			from = cuts[i-1]
		}
		if i+1 < len(cuts) {
			to = cuts[i+1]
		}
		before, after := Of(values[from:at]), Of(values[at:to])
		// What was cut elsewhere afterwards may have left too little between.
		if apart(before, after) {
			first, last := around(values[from:to], at-from)
			list = append(list, Change{at, from + first, from + last, before.Median, after.Median})
		}
	}
	return list
}

func split(values []float64, offset int, cuts *[]int) {
	if len(values) < 2*fewest {
		return
	}
	ranks := ranksOf(values)
	chance, best, at := true, math.Inf(1), 0
	n, sum := float64(len(values)), 0.0
	for i := 1; i <= len(values)-fewest; i++ {
		sum += ranks[i-1]
		if i < fewest {
			continue
		}
		left, right := float64(i), n-float64(i)
		off := math.Abs(sum-left*(n+1)/2) / math.Sqrt(left*right*(n+1)/12)
		// Between levels that differ fully, the sum of ranks is this far off, and cannot be further.
		most := math.Sqrt(3 * left * right / (n + 1))
		chance = chance && off < min(sure, most*0.999)
		if rest := strewn(values[:i]) + strewn(values[i:]); rest < best {
			best, at = rest, i
		}
	}
	if chance || !apart(Of(values[:at]), Of(values[at:])) {
		return
	}
	*cuts = append(*cuts, offset+at)
	split(values[:at], offset, cuts)
	split(values[at:], offset+at, cuts)
}

// around tells from where to where a change may have been that is likeliest at a place: as if values were strewn around
// their levels' medians as Laplace has it.
func around(values []float64, at int) (first, last int) {
	first, last = at, at
	best := strewn(values[:at]) + strewn(values[at:])
	for i := 1; i < len(values); i++ {
		rest := strewn(values[:i]) + strewn(values[i:])
		if rest == best || float64(len(values))*math.Log(rest/best) <= likely {
			first, last = min(first, i), max(last, i)
		}
	}
	return first, last
}

// strewn sums how far values are from their median.
func strewn(values []float64) (sum float64) {
	v := slices.Sorted(slices.Values(values))
	middle := quantile(v, 0.5)
	for _, x := range v {
		sum += math.Abs(x - middle)
	}
	return sum
}

// apart reports whether two levels differ by enough to be told: by a tenth, and by more than both are wide.
func apart(a, b Spread) bool {
	off := math.Abs(a.Median - b.Median)
	return off >= least*max(a.Median, b.Median)/(1+least) && (a.High < b.Low || b.High < a.Low) &&
		off > (a.High-a.Low+b.High-b.Low)/2
}

// ranksOf gives each value its place, from 1; equal ones share theirs.
func ranksOf(values []float64) []float64 {
	order := make([]int, len(values))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		switch {
		case values[a] < values[b]:
			return -1
		case values[a] > values[b]:
			return 1
		}
		return 0
	})
	ranks := make([]float64, len(values))
	for i := 0; i < len(order); {
		j := i
		for j < len(order) && values[order[j]] == values[order[i]] {
			j++
		}
		for k := i; k < j; k++ {
			ranks[order[k]] = float64(i+j+1) / 2
		}
		i = j
	}
	return ranks
}

// Slower says by how much the last of some values is above what is usual.
type Slower struct {
	Usual float64 // the median of before
	// Index of the first value that is: the last one's own, where only that is. And of the first and the last value
	// that may be it as well.
	Since, First, Last int
}

// beyond is by how many times the width of the middle half a single value must lie above it to be out of the ordinary.
const beyond = 3

// LastSlower reports whether the last value is slower than usual: since it belongs to a level that is higher than the
// one before it, or by itself. A level that has lasted for more than lasts values is what is usual.
func LastSlower(values []float64, lasts int) (Slower, bool) {
	n := len(values)
	if n < fewest+1 {
		return Slower{}, false
	}
	last := values[n-1]
	changes := Changes(values)
	from := 0
	if len(changes) > 0 {
		c := changes[len(changes)-1]
		if from = c.At; c.After > c.Before && n-c.At <= lasts && last > c.Before*(1+least) {
			return Slower{c.Before, c.At, c.First, c.Last}, true
		}
	}
	// A level too young to be found: those before it, in the level that is.
	since := n - 1
	usual := Of(values[from:since])
	if usual.N < fewest || !above(last, usual) {
		return Slower{}, false
	}
	for since-1-from >= fewest && above(values[since-1], Of(values[from:since-1])) {
		since--
	}
	return Slower{Of(values[from:since]).Median, since, since, since}, true
}

func above(v float64, usual Spread) bool {
	return v > usual.High+beyond*(usual.High-usual.Low) && v > usual.Median*1.25
}
