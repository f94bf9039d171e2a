package definition

import (
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/condition"
)

// Place names a value of a pipeline: of the pipeline itself, of a job, or of a step of a job.
type Place struct {
	Job  *Job
	Step *Step
	Keys []string // such as "cache", "stations", "follows", "0"
}

func (l Place) path() []string {
	var at []string
	if l.Job != nil {
		at = append(at, "job", l.Job.written)
	}
	if l.Step != nil {
		at = append(at, "step", strconv.Itoa(l.Step.written))
	}
	return append(at, l.Keys...)
}

// Finding makes a complaint about a value of a pipeline that Parse has returned.
func (p *Pipeline) Finding(code string, s Severity, message, fix string, at Place) Finding {
	f := p.ix.place(at.path()...).finding(code, message, fix)
	f.Severity = s
	return f
}

// scriptReach is how many lines after the beginning of a script a word of it is looked for.
const scriptReach = 1000

// ScriptFinding makes a complaint about a word of a step's script, near a line of it counted from 1.
func (p *Pipeline) ScriptFinding(code string, s Severity, message, fix string, at Place, line int,
	word string) Finding {
	key := keyOf(append(at.path(), "script")...)
	from, ok := p.ix.values[key]
	if !ok {
		return p.Finding(code, s, message, fix, at)
	}
	first := from.line
	if text := from.src.line(from.line); strings.HasSuffix(text, `"""`) || strings.HasSuffix(text, `'''`) {
		first++ // the line break after the opening quotes is not part of the text (TOML 1.0, String)
	}
	for _, n := range []int{first + line - 1, first} {
		for ; n < first+scriptReach; n++ {
			text := from.src.line(n)
			if col := strings.Index(text, word); col >= 0 {
				f := position{from.src, n, col + 1}.finding(code, message, fix)
				f.Severity = s
				return f
			}
			if n > first && (strings.Contains(text, `"""`) || strings.Contains(text, `'''`)) {
				break
			}
		}
	}
	return p.Finding(code, s, message, fix, Place{at.Job, at.Step, append(slices.Clone(at.Keys), "script")})
}

// Allows reports whether the file says that findings of a code are as they should be.
func (p *Pipeline) Allows(code string) bool { return slices.Contains(p.Allow, code) }

// conditions lists every condition of the pipeline.
func (p *Pipeline) conditions() (list []string) {
	for _, j := range p.Job {
		list = append(list, j.When)
		for _, s := range j.Step {
			list = append(list, s.When)
		}
	}
	return list
}

// AsksFor reports whether any condition reads one of the names in condition.Words.
func (p *Pipeline) AsksFor(word string) bool {
	return slices.ContainsFunc(p.conditions(), func(when string) bool {
		if when == "" {
			return false
		}
		c, err := condition.Compile(when)
		return err == nil && slices.Contains(c.Asks(""), word)
	})
}

// Line is where a job is written.
func (p *Pipeline) Line(j *Job) int { return p.ix.place("job", j.written).line }
