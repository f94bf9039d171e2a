package definition

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/access"
)

// Ask makes a job a gate: its work is done by people, who answer a question, and not by a machine.
type Ask struct {
	// Who may answer: a role ("reader", "builder", "keeper", "administrator"; whoever may do more may answer, too), a
	// group ("group:shore"), or somebody ("person:ada"). Of several, any.
	//
	//	who = ["keeper", "group:shore"]
	Who []access.Answerer `toml:"who" json:"who"`
	// How many of them have to say yes. Default 1. A single no ends it.
	//
	//	count = 2
	Count int `toml:"count" json:"count,omitempty"`
	// What they are asked. ${NAME} stands for the variable that a script would find.
	//
	//	question = "Publish ${PISTON_VERSION_NAME}?"
	Question string `toml:"question" json:"question"`
	// Set to true when whoever has started the run may not answer.
	//
	//	not_starter = true
	NotStarter bool `toml:"not_starter" json:"not_starter,omitempty"`
	// How long there is to answer, up to 90 days. Default 7 days.
	//
	//	within = "3d"
	Within Duration `toml:"within" json:"within,omitempty"`
	// What happens when that time is over: "fail" (the default), "pass", or "skip", by which the jobs after it are
	// skipped and nothing has failed.
	//
	//	unanswered = "skip"
	Unanswered string `toml:"unanswered" json:"unanswered,omitempty"`
}

// What happens to a gate when nobody has answered in time.
const (
	UnansweredFail = "fail"
	UnansweredPass = "pass"
	UnansweredSkip = "skip"
)

// The bounds of a question.
const (
	maxQuestion   = 500 // bytes
	maxAnswerers  = 20
	maxCount      = 20
	maxWithin     = 90 * 24 * time.Hour
	defaultWithin = Duration("7d")
)

// Yeses is how many have to say yes.
func (a *Ask) Yeses() int { return max(a.Count, 1) }

// Time is how long there is to answer.
func (a *Ask) Time() time.Duration {
	if a.Within == "" {
		return defaultWithin.Value()
	}
	return a.Within.Value()
}

// besideAsk are the keys that a gate may have besides its question.
var besideAsk = map[string]bool{"about": true, "after": true, "when": true, "always": true, "ask": true}

// gate looks at a job that asks people: it has nothing for a machine to do.
func gate(v *validator, job *Job, in func(...string) []string) {
	value := reflect.ValueOf(job).Elem()
	for _, f := range fields(value.Type()) {
		key, of := f.Tag.Get("toml"), value.FieldByIndex(f.Index)
		empty := of.IsZero() || (of.Kind() == reflect.Map || of.Kind() == reflect.Slice) && of.Len() == 0
		if !besideAsk[key] && !empty {
			v.add("bad-value", fmt.Sprintf("%s says nothing beside ask: people answer it, and no machine works on it", key),
				fmt.Sprintf("Remove %s, or put it into a job that comes after this one.", key), in(key)...)
		}
	}
	a, at := job.Ask, func(more ...string) []string { return in(append([]string{"ask"}, more...)...) }
	if len(a.Who) == 0 || strings.TrimSpace(a.Question) == "" {
		v.add("missing-key", "a gate needs both who and question",
			`Add who = ["keeper"] and question = "Publish ${PISTON_VERSION_NAME}?".`, at()...)
	}
	answerers(v, a.Who, a.Count, a.Within, at)
	if len(a.Question) > maxQuestion || strings.ContainsAny(a.Question, "\x00\n\r") {
		v.add("bad-value", fmt.Sprintf("a question is one line of at most %d bytes", maxQuestion), "Shorten it.",
			at("question")...)
	}
	v.oneOf(a.Unanswered, []string{UnansweredFail, UnansweredPass, UnansweredSkip}, at("unanswered")...)
}

// answerers checks who may answer, how many have to, and in what time.
func answerers(v *validator, who []access.Answerer, count int, within Duration, at func(...string) []string) {
	if len(who) > maxAnswerers {
		v.add("too-many", fmt.Sprintf("%d who may answer; there may be %d", len(who), maxAnswerers),
			"Make a group of them.", at("who")...)
	}
	for i, a := range who {
		if err := a.Check(); err != nil {
			v.add("bad-value", err.Error(),
				`Use "reader", "builder", "keeper", "administrator", "group:NAME" or "person:NAME".`, at("who", strconv.Itoa(i))...)
		}
	}
	if count < 0 || count > maxCount {
		v.add("bad-value", fmt.Sprintf("count is %d", count), fmt.Sprintf("Use a number from 1 to %d.", maxCount),
			at("count")...)
	}
	if n := people(who); n > 0 && n < max(count, 1) {
		v.add("bad-value", fmt.Sprintf("%d have to say yes, and %d may", max(count, 1), n),
			"Lower count, or let more people answer.", at("count")...)
	}
	if d := within; d != "" && (d.Value() < time.Minute || d.Value() > maxWithin) {
		v.add("bad-duration", fmt.Sprintf("%q is no span of time between a minute and 90 days", string(d)),
			`Write a number with a unit: "30m", "12h", "3d".`, at("within")...)
	}
}

// people counts those who may answer when they are all named one by one; 0 when nobody can tell.
func people(who []access.Answerer) (n int) {
	for i, a := range who {
		if !strings.HasPrefix(string(a), "person:") {
			return 0
		}
		if slices.Index(who, a) == i {
			n++
		}
	}
	return n
}

// questionReferences complains of what stands for no variable in a gate's question.
func questionReferences(v *validator, p *Pipeline, job *Job) {
	if job.Ask == nil {
		return
	}
	for _, m := range referenceForm.FindAllStringSubmatch(job.Ask.Question, -1) {
		if !p.hasVariable(job, &Step{}, m[1]) {
			v.add("unknown-reference", fmt.Sprintf("${%s} stands for nothing here", m[1]),
				"It stands for a variable that a script would find: of the pipeline's env, an input, or the service's own.",
				"job", job.written, "ask", "question")
		}
	}
}
