package definition

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/condition"
)

func (v *validator) unknownJob(p *Pipeline, job *Job, other string, at ...string) {
	names := sortedKeys(p.Job)
	fix := "Jobs of this file: " + strings.Join(names, ", ") + "."
	if near := nearest(other, names); near != "" {
		fix = fmt.Sprintf("Did you mean %q?", near)
	}
	v.add("unknown-job", fmt.Sprintf("job %q waits for %q, which is not in this file", job.written, other), fix, at...)
}

// graph checks what holds between jobs, once their variants are laid out.
func (v *validator) graph(p *Pipeline) {
	if HasErrors(v.found) {
		return
	}
	v.cycles(p)
	if HasErrors(v.found) {
		return
	}
	checked := map[string]bool{} // jobs as written: variants share their conditions
	for _, name := range p.JobNames() {
		job := p.Job[name]
		v.takes(p, job)
		if checked[job.written] {
			continue
		}
		checked[job.written] = true
		v.condition(p, job, job.When, "job", job.written, "when")
		for i, s := range job.Step {
			v.condition(p, job, s.When, "job", job.written, "step", strconv.Itoa(i), "when")
		}
	}
}

// before lists the jobs that are over before one starts, however far back. It is asked of few: of all it would take the
// square of their number.
func (p *Pipeline) before(job *Job) map[string]bool {
	all := map[string]bool{}
	for next := slices.Clone(job.After); len(next) > 0; {
		name := next[len(next)-1]
		next = next[:len(next)-1]
		if !all[name] {
			all[name] = true
			next = append(next, p.Job[name].After...)
		}
	}
	return all
}

// takes checks that what a job takes is handed on by a job before it.
func (v *validator) takes(p *Pipeline, job *Job) {
	if len(job.Take) == 0 {
		return
	}
	before := p.before(job)
	for i, take := range job.Take {
		at := []string{"job", job.written, "take", strconv.Itoa(i)}
		from, name, ok := strings.Cut(take, "/")
		if !ok {
			v.add("bad-value", fmt.Sprintf("%q does not say from which job", take),
				`Write JOB/NAME, such as take = ["core/library"].`, at...)
			continue
		}
		givers := p.variantsOf(from)
		if len(givers) == 0 {
			v.unknownJob(p, job, from, at...)
			continue
		}
		for _, giver := range givers {
			if !before[giver] {
				v.add("not-before", fmt.Sprintf("job %q takes files of %q, but does not come after it", job.written, from),
					fmt.Sprintf("Add %q to after.", from), at...)
				break
			}
			if p.Job[giver].Hand[name] == nil {
				fix := fmt.Sprintf("Add to job %s:\n        [job.%s.hand.%s]\n        files = [\"out/**\"]", from, from, name)
				if near := nearest(name, sortedKeys(p.Job[giver].Hand)); near != "" {
					fix = fmt.Sprintf("Did you mean %q?", from+"/"+near)
				}
				v.add("unknown-hand", fmt.Sprintf("job %q hands on nothing called %q", from, name), fix, at...)
				break
			}
		}
	}
}

// variantsOf lists the jobs a name stands for: one, or all variants of one.
func (p *Pipeline) variantsOf(name string) (names []string) {
	for _, n := range sortedKeys(p.Job) {
		if n == name || p.Job[n].Of == name {
			names = append(names, n)
		}
	}
	return names
}

// Takes lists the jobs and names a job takes files from.
func (p *Pipeline) Takes(job *Job) (list []string) {
	for _, take := range job.Take {
		from, name, _ := strings.Cut(take, "/")
		for _, giver := range p.variantsOf(from) {
			list = append(list, giver+"/"+name)
		}
	}
	return list
}

// condition checks that an expression holds together and asks only for what there is.
func (v *validator) condition(p *Pipeline, job *Job, text string, at ...string) {
	if text == "" {
		return
	}
	c, err := condition.Compile(text)
	var wrong *condition.Error
	if errors.As(err, &wrong) {
		v.found = append(v.found, v.ix.within(wrong.Col, at...).finding("bad-condition", wrong.Message,
			"Names a condition may use: "+conditionWords()+"."))
		return
	}
	if err != nil {
		v.add("bad-condition", err.Error(), "Make it simpler.", at...)
		return
	}
	ask := func(table, fix string, there func(name string) bool, names []string) {
		for _, name := range c.Asks(table) {
			if there(name) {
				continue
			}
			if near := nearest(name, names); near != "" {
				fix = fmt.Sprintf("Did you mean %q?", near)
			}
			v.found = append(v.found, v.ix.within(max(1, strings.Index(text, name)+1), at...).finding("bad-condition",
				fmt.Sprintf("the condition asks for %s.%s, which there is not", table, name), fix))
		}
	}
	ask("input", "Declare it by [input.NAME].", func(n string) bool { return p.Input[n] != nil }, sortedKeys(p.Input))
	ask("variant", "The values of variants are in variants.over.",
		func(n string) bool { _, ok := job.Variant[n]; return ok }, sortedKeys(job.Variant))
	before := p.before(job)
	earlier := sortedKeys(before)
	ask("job", "A condition can ask for jobs that come before this one: add it to after.", func(n string) bool {
		return before[n] || slices.ContainsFunc(earlier, func(b string) bool { return p.Job[b].Of == n })
	}, earlier)
}

func conditionWords() string {
	names := make([]string, len(condition.Words))
	for i, w := range condition.Words {
		names[i] = w.Name
	}
	return strings.Join(names, ", ")
}

// cycles finds jobs that wait for each other and names the whole circle.
func (v *validator) cycles(p *Pipeline) {
	const (
		fresh = iota
		open
		done
	)
	mark := map[string]int{}
	var visit func(name string, trail []string)
	visit = func(name string, trail []string) {
		mark[name] = open
		trail = append(trail, name)
		for _, next := range p.Job[name].After {
			switch mark[next] {
			case fresh:
				visit(next, trail)
			case open:
				from := slices.Index(trail, next)
				job := p.Job[name]
				v.add("cycle", "jobs wait for each other: "+strings.Join(append(slices.Clone(trail[from:]), next), " → "),
					"Remove one of these after entries.", "job", job.written, "after", strconv.Itoa(v.afterEntry(p, job, next)))
			}
		}
		mark[name] = done
	}
	for _, name := range sortedKeys(p.Job) {
		if mark[name] == fresh {
			visit(name, nil)
		}
	}
}

// afterEntry finds which entry of after, as written, stands for a job.
func (v *validator) afterEntry(p *Pipeline, job *Job, other string) int {
	place := func(i int) bool {
		_, ok := v.ix.places[keyOf("job", job.written, "after", strconv.Itoa(i))]
		return ok
	}
	for i := 0; place(i); i++ {
		at := v.ix.place("job", job.written, "after", strconv.Itoa(i))
		line := at.src.line(at.line)
		rest := line[min(at.col-1, len(line)):]
		for _, name := range []string{other, p.Job[other].Of} {
			if name != "" && strings.HasPrefix(strings.Trim(rest, `"' `), name) {
				return i
			}
		}
	}
	return 0
}
