package releases

import (
	"fmt"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/store"
)

// story is what has become of a release, in the order in which it happened.
func story(r store.Release, had []store.Version, gates []api.Gate) []api.Moment {
	list := []api.Moment{{At: r.Made, Kind: "made", By: r.MadeBy,
		Text: fmt.Sprintf("Released, of run %d", r.Run)}}
	for _, v := range had {
		if v.App == r.App && !slices.ContainsFunc(list, func(m api.Moment) bool { return m.Kind == "raised" }) {
			list = append(list, api.Moment{At: v.Issued, Kind: "raised", Text: "The ledger gave " + v.Name + ": " + v.Why})
		}
	}
	for _, g := range gates {
		list = append(list, api.Moment{At: g.Asked, Kind: "asked", Text: g.Question})
		for _, a := range g.Answers {
			list = append(list, api.Moment{At: a.At, Kind: answered(a), By: a.By, Text: a.Comment})
		}
		if g.Ended != nil && g.Outcome == store.GateUnanswered {
			list = append(list, api.Moment{At: *g.Ended, Kind: "unanswered", Text: "The time to answer was over"})
		}
	}
	if r.Withdrawn != nil {
		list = append(list, api.Moment{At: *r.Withdrawn, Kind: "withdrawn", By: r.WithdrawnBy, Text: r.WithdrawnWhy})
	}
	slices.SortStableFunc(list, func(a, b api.Moment) int { return a.At.Compare(b.At) })
	return list
}

func answered(a api.Answer) string {
	if a.Yes {
		return "yes"
	}
	return "no"
}
