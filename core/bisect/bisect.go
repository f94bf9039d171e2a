// Package bisect finds the first of several changes with which something fails, by halves. It computes only: whoever
// asks tries what it says and tells it how that went.
//
// The changes are in their order, counted from 0. What was before the first is known to pass, and the last is known to
// fail. It promises to ask for no change twice but the last, and for about as many as there are halvings; it refuses to
// name a change beside one that could not be judged, and says that it is one of them.
package bisect

import "math/bits"

// Verdict is how the try of a change went.
type Verdict string

// The verdicts.
const (
	Passed  Verdict = "passed"
	Failed  Verdict = "failed"  // in the way that is looked for
	Unclear Verdict = "unclear" // it could not be tried, or failed in another way
)

// Answer is what is known.
type Answer struct {
	// First and Last are the changes of which one is the first bad one; the same when it is known.
	First, Last int
	// Next is what to try next; -1 when there is nothing more to try.
	Next int
	// Most is how many tries there are at most to come, if each can be judged.
	Most int
	// Again says that the last change has passed when it was tried again, so that none of them is to blame.
	Again bool
}

// Of tells what is known of n changes, at least 1, by the verdicts of those that were tried.
func Of(n int, tried map[int]Verdict) Answer {
	good, bad := -1, n-1
	// Verdicts come of halving, so that a passed one before a failed one is what they say; should they not be in order,
	// the last that passed before the first that failed counts.
	for i := range n - 1 {
		if tried[i] == Failed {
			bad = i
			break
		}
	}
	for i := range bad {
		if tried[i] == Passed {
			good = i
		}
	}
	var left []int
	for i := good + 1; i < bad; i++ {
		if tried[i] == "" {
			left = append(left, i)
		}
	}
	out := Answer{First: good + 1, Last: bad, Next: -1}
	last := n - 1
	switch {
	case len(left) > 0:
		// Each half may be the larger one, and at the end the last may have to be tried again.
		out.Next, out.Most = left[(len(left)-1)/2], bits.Len(uint(len(left)))+1
	case bad == last && tried[last] == "":
		// Nothing but the first failure speaks against the last change, and that may have come by chance.
		out.Next, out.Most = last, 1
	case bad == last && tried[last] == Passed:
		out.Again = true
	}
	return out
}
