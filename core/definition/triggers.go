package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/cron"
)

// triggers checks what starts a pipeline, and that its inputs allow that.
func (v *validator) triggers(p *Pipeline) {
	t := p.Trigger
	if t.Push != nil {
		v.globs(t.Push.Branches, "trigger", "push", "branches")
		v.globs(t.Push.ExceptBranches, "trigger", "push", "except_branches")
		v.globs(t.Push.Paths, "trigger", "push", "paths")
		v.globs(t.Push.ExceptPaths, "trigger", "push", "except_paths")
	}
	if t.Tag != nil {
		v.globs(t.Tag.Names, "trigger", "tag", "names")
		v.globs(t.Tag.ExceptNames, "trigger", "tag", "except_names")
	}
	if t.Proposal != nil {
		v.globs(t.Proposal.Into, "trigger", "proposal", "into")
		v.globs(t.Proposal.Paths, "trigger", "proposal", "paths")
		v.globs(t.Proposal.ExceptPaths, "trigger", "proposal", "except_paths")
	}
	for _, name := range sortedKeys(t.Schedule) {
		v.schedule(name, t.Schedule[name])
	}
	for _, name := range sortedKeys(t.Pipeline) {
		v.ended(p, name, t.Pipeline[name])
	}
	if t.Push == nil && t.Tag == nil && t.Proposal == nil && len(t.Schedule) == 0 && len(t.Pipeline) == 0 {
		return
	}
	for _, name := range sortedKeys(p.Input) {
		if i := p.Input[name]; i.Required && i.Default == nil {
			v.add("required-input",
				fmt.Sprintf("input %q must be given, but a trigger starts this pipeline too and gives none", name),
				"Give it a default, or remove the triggers.", "input", name, "required")
		}
	}
}

func (v *validator) schedule(name string, s *Schedule) {
	at := func(key string) []string { return []string{"trigger", "schedule", name, key} }
	v.name(name, "schedule", "trigger", "schedule", name)
	zone, err := cron.Zone(s.Zone)
	if err != nil {
		v.add("bad-zone", err.Error(), "Use a name of the IANA time zone database, such as Europe/Lisbon or UTC.",
			at("zone")...)
		return
	}
	if s.Cron == "" {
		v.add("missing-key", fmt.Sprintf("schedule %q does not say when", name), `Add cron = "30 3 * * *".`, "trigger",
			"schedule", name)
		return
	}
	if _, err := cron.Parse(s.Cron, zone); err != nil {
		v.add("bad-schedule", err.Error(),
			`Write minute, hour, day of month, month, day of week: "30 3 * * 1-5" is half past three on working days.`,
			at("cron")...)
	}
	if strings.ContainsAny(s.Branch, "*?[{ \n") {
		v.add("bad-value", fmt.Sprintf("%q is no branch", s.Branch),
			"A schedule builds one branch; make another schedule for another.", at("branch")...)
	}
}

// endStates are those in which a run can end.
var endStates = []string{"passed", "failed", "timed-out", "cancelled"}

func (v *validator) ended(p *Pipeline, name string, e *Ended) {
	at := []string{"trigger", "pipeline", name}
	v.name(name, "pipeline", at...)
	if name == p.Name {
		v.add("pipeline-cycle", "the pipeline starts itself when it has ended, for ever", "Remove this trigger.", at...)
	}
	for i, s := range e.States {
		if !slices.Contains(endStates, s) {
			v.add("bad-value", fmt.Sprintf("no run ends %q", s), "Use "+strings.Join(endStates, ", ")+".",
				append(at, "states", fmt.Sprint(i))...)
		}
	}
	v.globs(e.Branches, append(at, "branches")...)
}

// maxInputs is how many inputs a pipeline may have: a form longer than that is a file.
const maxInputs = 50

// inputs checks declared inputs, or the parameters of a part.
func (v *validator) inputs(inputs map[string]*Input, table string) {
	if len(inputs) > maxInputs {
		v.add("too-many", fmt.Sprintf("%d values to give; %d is the most", len(inputs), maxInputs),
			"Put them into a file of the repository.", table)
		return
	}
	for _, name := range sortedKeys(inputs) {
		i := inputs[name]
		i.Name = name
		at := func(key string) []string { return []string{table, name, key} }
		v.name(name, table, table, name)
		v.oneOf(i.Kind, []string{TextInput, NumberInput, ChoiceInput, FlagInput}, at("kind")...)
		if i.Kind == ChoiceInput && len(i.Choices) == 0 {
			v.add("missing-key", fmt.Sprintf("%s %q is a choice of nothing", table, name), `Add choices = ["one", "other"].`,
				table, name)
			continue
		}
		if i.Kind != ChoiceInput && len(i.Choices) > 0 {
			v.add("bad-value", fmt.Sprintf("choices of %q do not count, since it is no choice", name), `Add kind = "choice".`,
				at("choices")...)
		}
		if i.Pattern != "" {
			if _, err := regexp.Compile(i.Pattern); err != nil || len(i.Pattern) > 1000 {
				v.add("bad-pattern", fmt.Sprintf("pattern is no regular expression: %v", err),
					"See https://github.com/google/re2/wiki/Syntax.", at("pattern")...)
				i.Pattern = ""
				continue
			}
		}
		switch i.Default.(type) {
		case nil:
			continue
		case string, int64, float64, bool:
		default:
			v.add("bad-value", "a default is a text, a number, true or false", "Write one value.", at("default")...)
			continue
		}
		if _, err := i.Accept(i.DefaultText()); err != nil {
			v.add("bad-value", "the default is not one that would be accepted: "+err.Error(), "Change the default.",
				at("default")...)
		}
	}
}
