package definition

import (
	"fmt"
	"maps"
	"path"
	"strconv"
	"strings"
)

// Part is a piece of a job that several pipelines share: steps, and what they need.
type Part struct {
	// One line that says what the part is for.
	//
	//	about = "Fetch the stations"
	About string `toml:"about"`
	// Values a user of the part gives by with. Each is an environment variable of the part's steps; in paths ${NAME}
	// stands for it.
	Parameter map[string]*Input `toml:"parameter"`
	// Tools the job's runner must have.
	//
	//	tools = { git = "*" }
	Tools map[string]string `toml:"tools"`
	// Environment variables of the part's steps.
	//
	//	env = { MODE = "release" }
	Env map[string]string `toml:"env"`
	// Caches of the job.
	Cache map[string]*Cache `toml:"cache"`
	// The steps. They may be parts in turn.
	Step []*Step `toml:"step"`
	// Files the job hands on.
	Hand map[string]*Hand `toml:"hand"`
	// Artifacts of the job.
	Keep map[string]*Keep `toml:"keep"`
}

// PartsFolder is where parts are.
const PartsFolder = Folder + "/parts"

// PartFile is the path of a part.
func PartFile(name string) string { return path.Join(PartsFolder, name+".toml") }

// maxPartDepth bounds parts within parts.
const maxPartDepth = 8

// putPartsIn replaces the steps that name a part by the part's steps.
func (p *Pipeline) putPartsIn(files Files) (found []Finding) {
	if !p.usesParts() {
		for _, job := range p.Job {
			job.nameSteps()
		}
		return nil
	}
	into := &index{src: p.ix.src, places: map[key]position{}, values: map[key]position{}}
	for _, k := range p.ix.order { // everything but the steps, whose numbers change
		if parts := k.parts(); len(parts) > 3 && parts[0] == "job" && parts[2] == "step" {
			continue
		}
		into.set(k, p.ix.places[k])
		if v, ok := p.ix.values[k]; ok {
			into.values[k] = v
		}
	}
	spent := 0
	for _, name := range sortedKeys(p.Job) {
		b := &builder{files: files, job: p.Job[name], at: []string{"job", name}, into: into, spent: &spent}
		written := p.Job[name].Step
		p.Job[name].Step = nil
		b.steps(written, p.ix, []string{"job", name, "step"}, nil, nil)
		if found = append(found, b.found...); spent > maxLaidOut {
			return found
		}
		p.Job[name].nameItems()
		p.Job[name].nameSteps()
	}
	p.ix = into
	return found
}

func (p *Pipeline) usesParts() bool {
	for _, job := range p.Job {
		for _, s := range job.Step {
			if s.Part != "" {
				return true
			}
		}
	}
	return false
}

func (j *Job) nameSteps() {
	for i, s := range j.Step {
		s.written = i
		if s.Name == "" {
			s.Name = s.title()
		}
	}
}

// builder puts the steps of one job together.
type builder struct {
	files Files
	job   *Job
	at    []string // of the job, in the index that is being built
	into  *index
	found []Finding
	spent *int // bytes of parts, for all jobs of the pipeline
}

func (b *builder) add(at position, code, message, fix string) {
	b.found = append(b.found, at.finding(code, message, fix))
}

// given is a parameter's value and where it is from.
type given struct {
	text string
	at   position
}

// steps adds steps as they are written at a place; params are those of the part they are in, and trail the parts
// around them.
func (b *builder) steps(list []*Step, ix *index, at []string, params map[string]given, trail []string) {
	for i, s := range list {
		place := append(append([]string(nil), at...), strconv.Itoa(i))
		if s.Part == "" {
			if len(s.With) > 0 {
				b.add(ix.place(append(place, "with")...), "bad-value", "with belongs to a part, and this step names none",
					"Add part, or remove with.")
			}
			b.step(s, ix, place, params)
			continue
		}
		if verbs := s.verbs(); len(verbs) > 1 {
			b.add(ix.place(append(place, "part")...), "bad-value",
				fmt.Sprintf("the step has %s; it can be one of them", strings.Join(verbs, " and ")), "Remove one.")
			continue
		}
		b.part(s, ix, place, params, trail)
		if HasErrors(b.found) || len(b.job.Step) > maxSteps {
			return // what multiplies must not go on; of too many steps validate tells
		}
	}
}

// step adds one step of the job, with the parameters it sees.
func (b *builder) step(s *Step, ix *index, place []string, params map[string]given) {
	to := append(append([]string(nil), b.at...), "step", strconv.Itoa(len(b.job.Step)))
	b.into.graft(ix, place, to)
	s.Line = ix.place(place...).line
	if params != nil {
		s.File = ix.src.file
		env := map[string]string{}
		for name, g := range params {
			env[name] = g.text
			b.into.set(keyOf(append(to, "env", name)...), g.at)
		}
		maps.Copy(env, s.Env)
		s.Env = env
		s.eachReference(func(text *string, _ ...string) { *text, _ = replace(*text, texts(params)) })
	}
	b.job.Step = append(b.job.Step, s)
}

func texts(params map[string]given) map[string]string {
	m := map[string]string{}
	for name, g := range params {
		m[name] = g.text
	}
	return m
}

// part puts a part where a step names it.
func (b *builder) part(s *Step, ix *index, place []string, around map[string]given, trail []string) {
	at := ix.place(append(place, "part")...)
	if !nameForm.MatchString(s.Part) {
		b.add(at, "bad-name", fmt.Sprintf("%q is no name for a part", s.Part), nameFix)
		return
	}
	file := PartFile(s.Part)
	for _, outer := range trail {
		if outer == file {
			b.add(at, "part-cycle", "parts hold each other: "+strings.Join(append(trail, file), " → "), "Remove one of these.")
			return
		}
	}
	if len(trail) >= maxPartDepth {
		b.add(at, "too-many", fmt.Sprintf("parts within parts, %d deep; %d is the most", len(trail)+1, maxPartDepth),
			"Write some of them out.")
		return
	}
	for _, k := range s.besides("part", map[string]bool{"with": true}) {
		b.add(ix.place(append(place, k)...), "bad-value", fmt.Sprintf("%s says nothing beside a part", k),
			"Give it to the part as a parameter, or write it there.")
	}
	var text []byte
	var err error
	if b.files != nil {
		text, err = b.files(file)
	}
	if err != nil || text == nil {
		message := fmt.Sprintf("there is no part %s", file)
		if err != nil {
			message = fmt.Sprintf("the part %s cannot be read: %v", file, err)
		}
		b.add(at, "no-part", message, "Make the file, or correct the name; parts are in "+PartsFolder+"/.")
		return
	}
	if *b.spent += len(text); *b.spent > maxLaidOut {
		b.add(at, "too-many", fmt.Sprintf("the parts that the jobs of this file use come to more than %d MB", maxLaidOut>>20),
			"Put what is long into files of the repository, and call those.")
		return
	}
	part := new(Part)
	partIndex, found := decode(&source{file: file, text: text}, part)
	b.found = append(b.found, found...)
	if partIndex == nil {
		return
	}
	if len(part.Step) == 0 {
		b.add(partIndex.place(), "no-steps", fmt.Sprintf("the part %s has no step", file),
			"Add one:\n        [[step]]\n        script = \"make\"")
		return
	}
	v := &validator{ix: partIndex}
	v.inputs(part.Parameter, "parameter")
	for _, name := range sortedKeys(part.Parameter) {
		v.env(map[string]string{name: ""}, "parameter")
	}
	b.found = append(b.found, v.found...)
	params := b.parameters(s, part, ix, partIndex, place, around)
	b.merge(part, partIndex, params)
	for i, step := range part.Step {
		env := maps.Clone(part.Env)
		if env == nil {
			env = map[string]string{}
		}
		maps.Copy(env, step.Env)
		step.Env = env
		partIndex.graft(partIndex, []string{"env"}, []string{"step", strconv.Itoa(i), "env"})
	}
	b.steps(part.Step, partIndex, []string{"step"}, params, append(trail, file))
}

// parameters checks what a step gives to a part. Inside a part, values may refer to the outer part's parameters.
func (b *builder) parameters(s *Step, part *Part, ix, partIndex *index, place []string,
	around map[string]given) map[string]given {
	params := map[string]given{}
	values := map[string]string{}
	for name, v := range s.With {
		text := (&Input{Default: v}).DefaultText()
		text, _ = replace(text, texts(around))
		values[name] = text
		if part.Parameter[name] == nil {
			fix := "The part has no parameters."
			if names := sortedKeys(part.Parameter); len(names) > 0 {
				fix = "Parameters of the part: " + strings.Join(names, ", ") + "."
				if near := nearest(name, names); near != "" {
					fix = fmt.Sprintf("Did you mean %q?", near)
				}
			}
			b.add(ix.place(append(place, "with", name)...), "unknown-key",
				fmt.Sprintf("the part %s has no parameter %q", s.Part, name), fix)
		}
	}
	for name, input := range part.Parameter {
		if input == nil {
			continue
		}
		input.Name = name
		g := given{input.DefaultText(), partIndex.place("parameter", name, "default")}
		if text, ok := values[name]; ok {
			g = given{text, ix.place(append(place, "with", name)...)}
		}
		if _, err := input.Accept(g.text); err != nil {
			at := g.at
			if _, ok := values[name]; !ok {
				at = ix.place(append(place, "part")...)
			}
			b.add(at, "bad-value", strings.Replace(err.Error(), "input ", "parameter ", 1),
				"Give it by with = { "+name+" = … }.")
		}
		params[name] = g
	}
	return params
}

// merge makes what a part needs the job's.
func (b *builder) merge(part *Part, ix *index, params map[string]given) {
	b.job.Tools = mergeNamed(b, b.job.Tools, part.Tools, ix, "tools")
	values := texts(params)
	each := func(list []string) {
		for i := range list {
			list[i], _ = replace(list[i], values)
		}
	}
	for _, c := range part.Cache {
		each(c.Paths)
		each(c.Follows)
	}
	for _, h := range part.Hand {
		each(h.Files)
	}
	for _, k := range part.Keep {
		each(k.Files)
	}
	b.job.Cache = mergeNamed(b, b.job.Cache, part.Cache, ix, "cache")
	b.job.Hand = mergeNamed(b, b.job.Hand, part.Hand, ix, "hand")
	b.job.Keep = mergeNamed(b, b.job.Keep, part.Keep, ix, "keep")
}

// mergeNamed adds a part's entries of a table to the job's; what the job says itself wins.
func mergeNamed[V any](b *builder, job, part map[string]V, ix *index, table string) map[string]V {
	for name, v := range part {
		if _, own := job[name]; own {
			continue
		}
		if job == nil {
			job = map[string]V{}
		}
		job[name] = v
		b.into.graft(ix, []string{table, name}, append(append([]string(nil), b.at...), table, name))
	}
	return job
}
