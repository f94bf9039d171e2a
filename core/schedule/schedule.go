// Package schedule decides which queued job a runner gets next, and tells of each that waits what it waits for.
//
// The order is: higher priority first; then the project that has the fewest jobs at work, so that no project can keep
// the others waiting; then age. A job is passed over while its project is held or has all the jobs at work it may
// have, while its run may not begin (its group is taken, or enough runs of its pipeline are at work), and where the
// runner lacks a label or a tool.
package schedule

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Job is a queued attempt of a job.
type Job struct {
	ID       record.AttemptID // of the attempt
	Project  record.ProjectID
	Run      record.RunID     // id, which grows with age
	Number   record.RunNumber // of the run, as people know it
	Pipeline string
	Name     string
	Priority int
	Queued   time.Time
	After    time.Time // not before this time: a pause between tries
	Labels   []string
	Tools    map[string]string // name -> wanted versions
	Group    string
	AtOnce   int // runs of the pipeline at work at once; 0 any
}

// Run is a run that is not over.
type Run struct {
	ID       record.RunID
	Number   record.RunNumber
	Project  record.ProjectID
	Pipeline string
	Group    string
	Begun    bool // a job of it has been handed out
	Waits    bool // for people: it is not at work
	Last     bool // while it has not begun it stands behind all others, however old it is
}

// Project is what holds for a project's jobs.
type Project struct {
	Held    string // why it is held; "" when it is not
	AtOnce  int    // jobs at work at once; 0 any
	Working int    // jobs at work now
}

// Runner is a machine that asks for work.
type Runner struct {
	Name   string
	Labels []string
	Tools  map[string]string // name -> version; "" for one that cannot be told
	Lacks  []string          // tools it has looked for in vain
	There  bool              // it asks for work now

	Project record.ProjectID // the only one it works for; 0 any
	Held    string           // why it is handed nothing; "" when it is
}

// Can reports whether a runner has what a job needs, and what it lacks.
func (r Runner) Can(labels []string, tools map[string]string) (lacks string, ok bool) {
	for _, l := range labels {
		if !slices.Contains(r.Labels, l) {
			return "label " + l, false
		}
	}
	for _, name := range sortedKeys(tools) {
		found, has := r.Tools[name]
		wanted, err := version.ParseWanted(tools[name])
		if !has || err != nil || !wanted.Meets(found) {
			return Tool(name, tools[name]), false
		}
	}
	return "", true
}

// Tool writes a wanted tool as people read it.
func Tool(name, wanted string) string {
	if wanted == "*" {
		return "tool " + name
	}
	return fmt.Sprintf("tool %s %s", name, wanted)
}

// Queue is everything a decision depends on.
type Queue struct {
	Now      time.Time
	Jobs     []Job // queued
	Runs     []Run // not over
	Projects map[record.ProjectID]Project
	Held     string // why nothing is handed out at all; "" when it is
}

// Assignment gives a job to a runner, by its place in the list of those that ask.
type Assignment struct {
	Runner int
	Job    Job
}

// state is a queue while jobs are taken from it.
type state struct {
	*Queue
	working map[record.ProjectID]int // by project
	ahead   map[record.RunID]Run     // runs by id
	groups  map[groupKey][]Run
	lines   map[lineKey][]Run
}

type groupKey struct {
	project record.ProjectID
	group   string
}

type lineKey struct {
	project  record.ProjectID
	pipeline string
}

func (q *Queue) state() *state {
	s := &state{Queue: q, working: map[record.ProjectID]int{}, ahead: map[record.RunID]Run{}, groups: map[groupKey][]Run{},
		lines: map[lineKey][]Run{}}
	for id, p := range q.Projects {
		s.working[id] = p.Working
	}
	runs := slices.Clone(q.Runs)
	// Those that have begun hold their place; the others stand in line by their number.
	sort.SliceStable(runs, func(i, j int) bool {
		a, b := runs[i], runs[j]
		switch {
		case a.Begun != b.Begun:
			return a.Begun
		case !a.Begun && a.Last != b.Last:
			return b.Last
		}
		return a.Number < b.Number
	})
	for _, r := range runs {
		s.ahead[r.ID] = r
		if r.Group != "" {
			k := groupKey{r.Project, r.Group}
			s.groups[k] = append(s.groups[k], r)
		}
		if k := (lineKey{r.Project, r.Pipeline}); !r.Waits {
			s.lines[k] = append(s.lines[k], r)
		}
	}
	return s
}

// Assign decides which of the runners that ask gets which job. Each gets one at most.
func (q *Queue) Assign(runners []Runner) (given []Assignment) {
	s := q.state()
	taken := map[record.AttemptID]bool{}
	for n, r := range runners {
		best := -1
		for i, j := range q.Jobs {
			if taken[j.ID] || best >= 0 && !s.before(j, q.Jobs[best]) {
				continue
			}
			if s.blocked(j) {
				continue
			}
			if _, ok := r.Can(j.Labels, j.Tools); ok && (r.Project == 0 || r.Project == j.Project) {
				best = i
			}
		}
		if best >= 0 {
			j := q.Jobs[best]
			taken[j.ID] = true
			s.begin(j)
			given = append(given, Assignment{n, j})
		}
	}
	return given
}

// older orders by age.
func older(a, b Job) bool {
	if !a.Queued.Equal(b.Queued) {
		return a.Queued.Before(b.Queued)
	}
	return a.ID < b.ID
}

// before orders two jobs as the package's comment says.
func (s *state) before(a, b Job) bool {
	if a.Priority != b.Priority {
		return a.Priority > b.Priority
	}
	if wa, wb := s.working[a.Project], s.working[b.Project]; wa != wb {
		return wa < wb
	}
	return older(a, b)
}

// begin takes a job out of the queue.
func (s *state) begin(j Job) {
	s.working[j.Project]++
	if r := s.ahead[j.Run]; r.ID != 0 {
		r.Begun = true
		s.ahead[j.Run] = r
	}
}

func (s *state) blocked(j Job) bool {
	p := s.Projects[j.Project]
	if s.Held != "" || p.Held != "" || p.AtOnce > 0 && s.working[j.Project] >= p.AtOnce || j.After.After(s.Now) {
		return true
	}
	if s.ahead[j.Run].Begun {
		return false
	}
	if j.Group != "" && place(s.groups[groupKey{j.Project, j.Group}], j.Run) > 0 {
		return true
	}
	return j.AtOnce > 0 && place(s.lines[lineKey{j.Project, j.Pipeline}], j.Run) >= j.AtOnce
}

// place is how many runs of a list come before one.
func place(list []Run, run record.RunID) int {
	if i := slices.IndexFunc(list, func(r Run) bool { return r.ID == run }); i >= 0 {
		return i
	}
	return len(list)
}

// Waiting tells for each queued job what it waits for, in the order of the queue. runners are those that are there;
// known are all that have ever been.
func (q *Queue) Waiting(runners, known []Runner) []Wait {
	s := q.state()
	order := slices.Clone(q.Jobs)
	sort.SliceStable(order, func(i, j int) bool { return s.before(order[i], order[j]) })
	list := make([]Wait, len(order))
	for i, j := range order {
		list[i] = Wait{Job: j, Why: s.why(j, runners, known), Place: i + 1}
	}
	return list
}

// Wait is a job that waits, and what for.
type Wait struct {
	Job   Job
	Why   string
	Place int // in the queue, from 1
}

func (s *state) why(j Job, runners, known []Runner) string {
	if s.Held != "" {
		return s.Held
	}
	p := s.Projects[j.Project]
	if p.Held != "" {
		return "the project is held: " + p.Held
	}
	if text := lacking(j, runners, known); text != "" {
		return text
	}
	if j.After.After(s.Now) {
		return fmt.Sprintf("is tried again in %s", j.After.Sub(s.Now).Round(time.Second))
	}
	if !s.ahead[j.Run].Begun {
		if list := s.groups[groupKey{j.Project, j.Group}]; j.Group != "" && place(list, j.Run) > 0 {
			return fmt.Sprintf("%s of %d behind run %d in group %s", ordinal(place(list, j.Run)+1), len(list), list[0].Number,
				j.Group)
		}
		if list := s.lines[lineKey{j.Project, j.Pipeline}]; j.AtOnce > 0 && place(list, j.Run) >= j.AtOnce {
			return fmt.Sprintf("%s of %d runs of %s, of which %d may be at work at once; run %d is",
				ordinal(place(list, j.Run)+1), len(list), j.Pipeline, j.AtOnce, list[0].Number)
		}
	}
	if p.AtOnce > 0 && s.working[j.Project] >= p.AtOnce {
		return fmt.Sprintf("the project has all %d jobs at work that it may have", p.AtOnce)
	}
	return "all runners that could do it are busy"
}

// lacking says what no runner has, when that is so.
func lacking(j Job, runners, known []Runner) string {
	if len(known) == 0 {
		return "no runner has ever asked for work; start one by piston runner"
	}
	for _, r := range runners {
		if _, ok := r.Can(j.Labels, j.Tools); ok {
			return ""
		}
	}
	for _, r := range known {
		if _, ok := r.Can(j.Labels, j.Tools); ok {
			if r.Held != "" {
				return fmt.Sprintf("only runner %s could do it, and it is held: %s", r.Name, r.Held)
			}
			return fmt.Sprintf("only runner %s could do it, and it is not there", r.Name)
		}
	}
	// One label or tool that nobody has explains more than a combination.
	for _, l := range j.Labels {
		if !slices.ContainsFunc(known, func(r Runner) bool { return slices.Contains(r.Labels, l) }) {
			return fmt.Sprintf("needs label %s: no runner has it", l)
		}
	}
	for _, r := range known {
		if r.There && len(r.unasked(j)) > 0 {
			return "" // it is about to look
		}
	}
	for _, name := range sortedKeys(j.Tools) {
		one := map[string]string{name: j.Tools[name]}
		if !slices.ContainsFunc(known, func(r Runner) bool { _, ok := r.Can(nil, one); return ok }) {
			return fmt.Sprintf("needs %s: no runner has it%s", Tool(name, j.Tools[name]), others(name, known))
		}
	}
	return fmt.Sprintf("no runner has all of %s", needs(j))
}

// others tells the versions of a tool that runners do have.
func others(tool string, runners []Runner) string {
	var have []string
	for _, r := range runners {
		switch v, ok := r.Tools[tool]; {
		case ok && v == "":
			have = append(have, fmt.Sprintf("%s has it and cannot tell its version: start it with --tool %s=COMMAND", r.Name,
				tool))
		case ok:
			have = append(have, fmt.Sprintf("%s has %s", r.Name, v))
		}
	}
	if len(have) == 0 {
		return ""
	}
	return " (" + strings.Join(have[:min(3, len(have))], ", ") + ")"
}

// unasked lists tools of a job that a runner neither has nor has looked for.
func (r Runner) unasked(j Job) (names []string) {
	for _, name := range sortedKeys(j.Tools) {
		if _, has := r.Tools[name]; !has && !slices.Contains(r.Lacks, name) && len(r.Lacks) < mostLacks {
			names = append(names, name)
		}
	}
	return names
}

// mostLacks bounds how many tools a runner is asked for in vain: their names are whatever pipelines say.
const mostLacks = 400

// Unasked lists tools that jobs want which a runner could do but for them, and that it has not looked for yet.
func (q *Queue) Unasked(r Runner) (names []string) {
	for _, j := range q.Jobs {
		if _, ok := r.Can(j.Labels, nil); !ok || r.Project != 0 && r.Project != j.Project {
			continue
		}
		for _, name := range r.unasked(j) {
			if !slices.Contains(names, name) && len(names) < 50 {
				names = append(names, name)
			}
		}
	}
	return names
}

// Lacking says why none of the runners can ever do a job with these needs; "" when one can.
func Lacking(labels []string, tools map[string]string, runners []Runner) string {
	return lacking(Job{Labels: labels, Tools: tools}, runners, runners)
}

func needs(j Job) string {
	var list []string
	for _, l := range j.Labels {
		list = append(list, "label "+l)
	}
	for _, name := range sortedKeys(j.Tools) {
		list = append(list, Tool(name, j.Tools[name]))
	}
	return strings.Join(list, ", ")
}

func ordinal(n int) string {
	words := []string{"", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth"}
	if n < len(words) {
		return words[n]
	}
	return fmt.Sprintf("number %d", n)
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
