package releases

import (
	"fmt"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/store"
)

// story is what has become of a release, in the order in which it happened.
func story(r store.Release, had []store.Version, gates []api.Gate,
	became []store.PublicationStep) []api.Moment {
	list := []api.Moment{{At: r.Made, Kind: "made", By: r.MadeBy,
		Text: fmt.Sprintf("Released, of run %d", r.Run)}}
	if i := slices.IndexFunc(had, func(v store.Version) bool { return v.App == r.App }); i >= 0 {
		v := had[i] // on each platform it says the same
		list = append(list, api.Moment{At: v.Issued, Kind: "raised", Text: "The ledger gave " + v.Name + ": " + v.Why})
		if v.LandedAt != nil {
			list = append(list, api.Moment{At: *v.LandedAt, Kind: "landed",
				Text: fmt.Sprintf("Brought back into the repository, commit %.12s", v.Landed)})
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
	for _, p := range became {
		m := api.Moment{At: p.At, Kind: string(p.State), By: p.By, Text: p.Note, To: p.Outlet + ", " + p.Channel}
		if p.State.Given() && p.Note == "" {
			m.Text = fmt.Sprintf("%d %%", p.OutTo)
		}
		list = append(list, m)
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
