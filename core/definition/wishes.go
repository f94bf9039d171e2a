package definition

import (
	"fmt"
	"maps"
	"strings"

	"gentlepiston.example/piston/core/version"
)

// RaiseWish is how a step of a pipeline raises a version.
type RaiseWish struct {
	version.Wish
	App  string // "" for the only one
	Job  string
	When string // which raise it is, and for which choice of an input
}

// Wishes lists how a run of the pipeline would raise versions, one for each choice of an input that a raise goes by.
// What only a run knows, such as a text that somebody types, is not among them.
func (p *Pipeline) Wishes() (list []RaiseWish) {
	for _, name := range p.JobNames() {
		for i, s := range p.Job[name].Step {
			if s.Raise == nil {
				continue
			}
			from := fmt.Sprintf("job.%s.step[%d].raise", quotedKey(name), i)
			for _, in := range p.choicesOf(s.Raise.By + s.Raise.Pre + s.Raise.To) {
				fill := func(text string) string { return strings.TrimSpace(Fill(text, in.values)) }
				w := RaiseWish{App: s.Raise.App, Job: name, When: from + in.when,
					Wish: version.Wish{By: fill(s.Raise.By), Pre: fill(s.Raise.Pre), To: fill(s.Raise.To)}}
				if w.Complaint() == "" && !strings.Contains(w.By+w.Pre+w.To, "${") {
					list = append(list, w)
				}
			}
		}
	}
	return list
}

// chosenInputs are values that inputs may have.
type chosenInputs struct {
	values map[string]string
	when   string
}

// choicesOf lists what the inputs in a text may be: each choice of the one that is a choice, and what others are by
// default.
func (p *Pipeline) choicesOf(text string) []chosenInputs {
	values := map[string]string{}
	var chosen *Input
	for _, name := range sortedKeys(p.Input) {
		in := p.Input[name]
		if in.Default != nil {
			values[in.Variable()] = fmt.Sprint(in.Default)
		}
		if in.Kind == ChoiceInput && strings.Contains(text, "${"+in.Variable()+"}") {
			chosen = in
		}
	}
	if chosen == nil {
		return []chosenInputs{{values: values}}
	}
	var list []chosenInputs
	for _, choice := range chosen.Choices {
		g := chosenInputs{values: maps.Clone(values), when: fmt.Sprintf(", when %s is %s", chosen.Name, choice)}
		g.values[chosen.Variable()] = choice
		list = append(list, g)
	}
	return list
}
