package history

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/store"
)

const (
	month = "2006-01"
	// monthsShown is how many months usage looks back.
	monthsShown = 12
	// warnAt is from how much of a budget on is warned, in per cent, where nobody has said otherwise.
	warnAt = 80
)

// Usage tells how long machines were at work for a project in a month; for all where the project is "".
func (s *History) Usage(ctx context.Context, project string, f api.UsageFilter) (api.Usage, error) {
	out := api.Usage{Parts: []api.UsedPart{}, Months: []api.UsedMonth{}, Waste: []api.UsedPart{}}
	now := time.Now().UTC()
	from := monthOf(now)
	if f.Month != "" {
		var err error
		if from, err = time.Parse(month, f.Month); err != nil {
			return out, fmt.Errorf("%q is no month: give one such as %s: %w", f.Month, now.Format(month), ground.ErrInvalid)
		}
	}
	out.Month = from.Format(month)
	var id record.ProjectID
	if project != "" {
		p, err := s.FindProject(ctx, project)
		if err != nil {
			return out, err
		}
		id = p.ID
	}
	of := store.UsageFilter{Project: id, From: from, To: from.AddDate(0, 1, 0)}
	parts, err := s.Store.UsageBy(ctx, of, f.By, now)
	if err != nil {
		return out, err
	}
	out.Parts = append(out.Parts, usedParts(parts)...)
	if out.Used, err = s.Store.Used(ctx, of, now); err != nil {
		return out, err
	}
	if out.Forecast, err = s.forecast(ctx, out.Used, of, now); err != nil {
		return out, err
	}
	waste, err := s.Store.Waste(ctx, of, now)
	if err != nil {
		return out, err
	}
	out.Waste = append(out.Waste, usedParts(waste)...)
	back := of
	back.From = from.AddDate(0, 1-monthsShown, 0)
	months, err := s.Store.UsageByMonth(ctx, back, now)
	if err != nil {
		return out, err
	}
	for _, m := range months {
		out.Months = append(out.Months, api.UsedMonth{Month: m.Month, Used: m.TookMs})
	}
	if id != 0 {
		out.Budget, err = s.budget(ctx, id, out.Used)
	}
	return out, err
}

func usedParts(list []store.UsedPart) (out []api.UsedPart) {
	for _, p := range list {
		out = append(out, api.UsedPart{Name: p.Name, Used: p.TookMs, Waited: p.WaitMs, Runs: p.Runs})
	}
	return out
}

// forecast is what a month comes to that goes on as the last four weeks went; of one that is over, what it came to.
func (s *History) forecast(ctx context.Context, used int64, f store.UsageFilter, now time.Time) (int64, error) {
	if now.Before(f.From) || now.After(f.To) {
		return used, nil
	}
	const lately = 28 * 24 * time.Hour
	of, err := s.Store.Used(ctx, store.UsageFilter{Project: f.Project, From: now.Add(-lately), To: now}, now)
	return used + int64(float64(of)*f.To.Sub(now).Seconds()/lately.Seconds()), err
}

func (s *History) budget(ctx context.Context, project record.ProjectID, used int64) (*api.Budget, error) {
	b, err := s.Store.BudgetOf(ctx, project)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	out := &api.Budget{NewBudget: api.NewBudget{Minutes: b.Minutes, WarnAt: b.WarnAt, Hold: b.Hold}, By: b.SetBy,
		State: standing(b, used)}
	if b.Minutes > 0 {
		out.Percent = used * 100 / (b.Minutes * minute)
	}
	return out, err
}

// minute is in milliseconds.
const minute = 60_000

// standing is how a budget stands when so much is used.
func standing(b store.Budget, used int64) string {
	switch whole := b.Minutes * minute; {
	case used >= whole:
		return "spent"
	case used*100 >= whole*int64(b.WarnAt):
		return "warned"
	}
	return "fine"
}

// SetBudget gives a project a budget.
func (s *History) SetBudget(ctx context.Context, project string, in api.NewBudget) (api.Usage, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Usage{}, err
	}
	if in.WarnAt == 0 {
		in.WarnAt = warnAt
	}
	told := fact.Fact{Kind: fact.BudgetSet, Project: project, After: in}
	err = s.Acting(ctx, told, func(q ground.Q) error {
		return q.SetBudget(ctx, store.Budget{ProjectID: p.ID, Minutes: in.Minutes, WarnAt: in.WarnAt, Hold: in.Hold,
			SetBy: ground.WhoAsks(ctx).Name})
	})
	if err != nil {
		return api.Usage{}, err
	}
	return s.Usage(ctx, project, api.UsageFilter{By: "pipeline"})
}

// DropBudget takes a project's budget back.
func (s *History) DropBudget(ctx context.Context, project string) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	told := fact.Fact{Kind: fact.BudgetDrop, Project: project}
	err = s.Acting(ctx, told, func(q ground.Q) error { return q.DropBudget(ctx, p.ID) })
	return ground.Known(err, "budget of %s", project)
}

// byBudget is who holds a project whose budget is used up.
const byBudget = "its budget"

// WatchBudgets warns of budgets, once a month each, and holds projects whose budget is used up and says so; in the next
// month they go on.
func (s *History) WatchBudgets(ctx context.Context, now time.Time) error {
	list, err := s.Store.Budgets(ctx)
	if err != nil {
		return err
	}
	for _, b := range list {
		if err := s.watch(ground.AsItself(ctx), b, now.UTC()); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	return nil
}

func (s *History) watch(ctx context.Context, b store.Budget, now time.Time) error {
	from := monthOf(now)
	used, err := s.Store.Used(ctx, store.UsageFilter{Project: b.ProjectID, From: from, To: from.AddDate(0, 1, 0)}, now)
	if err != nil {
		return err
	}
	p, err := s.Store.ProjectByID(ctx, b.ProjectID)
	if err != nil {
		return err
	}
	after, this := b, now.Format(month)
	var says []river.JobArgs
	var told []fact.Fact
	tell := func(kind fact.Kind, what news.Kind, subject string) {
		says = append(says, notify.Happened{Project: p.ID, What: what, Path: "/" + p.Name + "/usage",
			Key:     fmt.Sprintf("%s %d %s", what, p.ID, this),
			Subject: fmt.Sprintf("%s: %s of the %d minutes for %s", p.Name, subject, b.Minutes, this),
			Data:    map[string]any{"month": this, "used_minutes": used / minute, "minutes": b.Minutes}})
		told = append(told, fact.Fact{Kind: kind, Project: p.Name,
			After: map[string]any{"month": this, "used_minutes": used / minute, "minutes": b.Minutes}})
	}
	hold, held := p.Held, p.HeldBy
	switch state := standing(b, used); {
	case state == "spent" && b.SpentMonth != this:
		after.WarnedMonth, after.SpentMonth = this, this
		tell(fact.BudgetSpent, news.BudgetSpent, "all")
		if b.Hold && p.Held == "" {
			hold, held = fmt.Sprintf("the budget of %d minutes for %s is used up", b.Minutes, this), byBudget
		}
	case state == "warned" && b.WarnedMonth != this:
		after.WarnedMonth = this
		tell(fact.BudgetWarn, news.BudgetWarned, fmt.Sprintf("%d %%", used*100/(b.Minutes*minute)))
	case p.HeldBy == byBudget && b.SpentMonth != this:
		hold, held = "", ""
	default:
		return nil
	}
	return s.Tx(ctx, func(q ground.Q) error {
		if after != b {
			if err := q.MarkBudget(ctx, b, after); err != nil {
				return err
			}
		}
		if hold != p.Held {
			if err := q.HoldProject(ctx, p.ID, hold, held); err != nil {
				return err
			}
			told = append(told, fact.Fact{Kind: fact.ProjectHold, Project: p.Name,
				Before: map[string]string{"reason": p.Held}, After: map[string]string{"reason": hold}})
		}
		if err := q.PutOff(ctx, says...); err != nil {
			return err
		}
		for _, f := range told {
			if err := q.Tell(ctx, f); err != nil {
				return err
			}
		}
		return nil
	})
}
