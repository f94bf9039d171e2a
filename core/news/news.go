// Package news says what people and programs can be told of, and who is told of it where nobody has said otherwise: few
// things, of a change, once.
package news

import "slices"

// Kind is what somebody is told of, such as pipeline.broke.
type Kind string

// The kinds.
const (
	RunEnded         Kind = "run.ended"          // each run, however it ended
	PipelineBroke    Kind = "pipeline.broke"     // the first run that failed after one that passed, on its branch
	PipelineMended   Kind = "pipeline.recovered" // the first that passed after one that failed
	ReleaseMade      Kind = "release.made"
	ChangeFound      Kind = "change.found" // the first change with which a job fails
	Expiry           Kind = "expiry.near"  // a certificate, profile or secret ends soon, or has
	BudgetWarned     Kind = "budget.warned"
	BudgetSpent      Kind = "budget.spent"
	SomebodyTriesOut Kind = "webhook.tried" // somebody wants to see whether it arrives
)

// All lists the kinds that one may choose, with what each means.
var All = []struct {
	Kind  Kind
	Means string
}{
	{PipelineBroke, "the first run that failed after one that passed, on its branch"},
	{PipelineMended, "the first run that passed after one that failed, on its branch"},
	{RunEnded, "each run, however it ended"},
	{ReleaseMade, "a release was made"},
	{ChangeFound, "the first change with which a job fails was found"},
	{Expiry, "a certificate, profile or secret expires in 30, 7 or 1 days, or has"},
	{BudgetWarned, "much of a budget is used"},
	{BudgetSpent, "a budget is used up"},
}

// Known tells whether a kind may be chosen.
func Known(k Kind) bool {
	return slices.ContainsFunc(All, func(a struct {
		Kind  Kind
		Means string
	}) bool {
		return a.Kind == k
	})
}

// ForPrograms is what programs are told of where nobody has chosen.
var ForPrograms = []Kind{PipelineBroke, PipelineMended, ReleaseMade, ChangeFound, Expiry, BudgetWarned, BudgetSpent}

// Mine is what somebody is told of that they have started, or broken, or mended.
const Mine = "mine"

// OfMine is what that is.
var OfMine = []Kind{PipelineBroke, PipelineMended, ChangeFound}

// ForPeople is what people are told of who have not chosen; keepers also of budgets and of what expires.
func ForPeople(keeper bool) []string {
	if keeper {
		return []string{Mine, string(Expiry), string(BudgetWarned), string(BudgetSpent)}
	}
	return []string{Mine}
}

// Bad and Good are how a run can end that tells anything of its branch: one that was cancelled tells nothing.
var (
	bad  = []string{"failed", "timed-out"}
	good = []string{"passed"}
)

// Change is what the end of a run means for its branch, from how the one before it ended; "" when nothing has changed.
// before is "" when there is none.
func Change(before, now string) Kind {
	switch {
	case slices.Contains(bad, now) && !slices.Contains(bad, before):
		return PipelineBroke
	case slices.Contains(good, now) && slices.Contains(bad, before):
		return PipelineMended
	}
	return ""
}
