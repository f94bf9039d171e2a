package definition

import (
	"fmt"
	"reflect"
	"strings"
	"sync"

	"gentlepiston.example/piston/core/action"
)

// actionFields are the fields of a step that are actions, found by their types.
var actionFields = sync.OnceValue(func() (list []reflect.StructField) {
	for _, f := range fields(reflect.TypeFor[Step]()) {
		if f.Type.Implements(reflect.TypeFor[action.Action]()) {
			list = append(list, f)
		}
	}
	return list
})

// Action is what the step does instead of running a script, and the key it is written under; nil when it is a script.
func (s *Step) Action() (a action.Action, key string) {
	v := reflect.ValueOf(s).Elem()
	for _, f := range actionFields() {
		if field := v.FieldByIndex(f.Index); !field.IsNil() {
			return field.Interface().(action.Action), f.Tag.Get("toml")
		}
	}
	return nil, ""
}

// verbs lists what the step says it does. It must be one thing.
func (s *Step) verbs() (list []string) {
	if s.Script != "" {
		list = append(list, "script")
	}
	if s.Part != "" {
		list = append(list, "part")
	}
	v := reflect.ValueOf(s).Elem()
	for _, f := range actionFields() {
		if !v.FieldByIndex(f.Index).IsNil() {
			list = append(list, f.Tag.Get("toml"))
		}
	}
	return list
}

// title is what a step is called that has no name.
func (s *Step) title() string {
	if _, key := s.Action(); key != "" {
		return key
	}
	return firstLine(s.Script)
}

// anyStep are the keys that belong to a step whatever it does.
var anyStep = map[string]bool{"name": true, "when": true, "always": true, "advisory": true, "limit": true}

// besides lists the keys a step has besides its verb, but for those that may be there: for a part none, for an action
// those of any step.
func (s *Step) besides(verb string, may map[string]bool) (keys []string) {
	v := reflect.ValueOf(s).Elem()
	for _, f := range fields(v.Type()) {
		value := v.FieldByIndex(f.Index)
		empty := value.IsZero() || (value.Kind() == reflect.Map || value.Kind() == reflect.Slice) && value.Len() == 0
		if key := f.Tag.Get("toml"); key != verb && !may[key] && !empty {
			keys = append(keys, key)
		}
	}
	return keys
}

// verb checks that a step does one thing, and that its keys are of that.
func (v *validator) verb(s *Step, in func(...string) []string) {
	verbs := s.verbs()
	if len(verbs) > 1 {
		v.add("bad-value", fmt.Sprintf("the step has %s; it can be one of them", strings.Join(verbs, " and ")),
			"Make each a step of its own.", in(verbs[1])...)
		return
	}
	a, key := s.Action()
	if a == nil {
		return
	}
	may := map[string]bool{"env": s.File != ""} // in a part, its parameters
	for any := range anyStep {
		may[any] = true
	}
	for _, other := range s.besides(key, may) {
		v.add("bad-value", fmt.Sprintf("%s says nothing beside %s", other, key),
			fmt.Sprintf("Remove %s.", other), in(other)...)
	}
	complaints := a.Complaints()
	for _, c := range complaints {
		at := in(key)
		if c.Key != "" {
			at = in(key, c.Key)
		}
		v.add(c.Code, c.Message, c.Fix, at...)
	}
	if len(complaints) > 0 {
		return // of its paths, too
	}
	for _, paths := range []map[string]*string{a.Paths(), a.Writes()} {
		for name, path := range paths {
			v.relative(*path, in(append([]string{key}, strings.Split(name, ".")...)...)...)
		}
	}
}

// actionReferences complains of what stands for no variable in the texts of a job's actions.
func (v *validator) actionReferences(p *Pipeline, job *Job) {
	for i, s := range job.Step {
		a, key := s.Action()
		if a == nil {
			continue
		}
		for name, text := range a.Texts() {
			for _, m := range referenceForm.FindAllString(text, -1) {
				variable := m[2 : len(m)-1]
				if p.hasVariable(job, s, variable) {
					continue
				}
				v.add("unknown-reference", fmt.Sprintf("${%s} stands for nothing here", variable),
					"It stands for a variable that a script would find here: of env, of a variant, or the service's own.",
					"job", job.written, "step", fmt.Sprint(i), key, name)
			}
		}
	}
}

// ownVariables are those the service sets for every step, but for inputs.
var ownVariables = strings.Fields("PISTON_PROJECT PISTON_RUN PISTON_PIPELINE PISTON_JOB PISTON_ATTEMPT " +
	"PISTON_TRIGGER PISTON_BRANCH PISTON_TAG PISTON_COMMIT PISTON_TARGET PISTON_TRUSTED PISTON_BUILD_NUMBER " +
	"PISTON_VERSION_NAME TRACEPARENT")

// hasVariable tells whether a step of a job finds a variable.
func (p *Pipeline) hasVariable(job *Job, s *Step, name string) bool {
	for _, env := range []map[string]string{p.Env, job.Env, s.Env} {
		if _, is := env[name]; is {
			return true
		}
	}
	for _, in := range p.Input {
		if in.Variable() == name {
			return true
		}
	}
	for _, own := range ownVariables {
		if own == name {
			return true
		}
	}
	return false
}
