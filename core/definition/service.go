package definition

import (
	"fmt"
	"slices"

	"gentlepiston.example/piston/core/action"
)

// ServiceMachine is the label of jobs that take no machine, since the service does all of their steps. No runner can
// have it.
const ServiceMachine = "@service"

// doer is who does a step.
func (s *Step) doer() action.Doer {
	_, key := s.Action()
	for _, kind := range action.Kinds {
		if kind.Key == key {
			return kind.By
		}
	}
	return action.Runner
}

// ByService tells whether the service does all steps of a job, and no machine.
func (j *Job) ByService() bool { return slices.Equal(j.Machine, []string{ServiceMachine}) }

// forMachines are the keys of a job that mean something to machines only.
var forMachines = []string{"machine", "tools", "cache", "hand", "keep", "take", "history", "submodules", "limits",
	"env", "dir", "shell", "stay", "retry", "variants"}

// giveToService takes from no machine what the service does itself, unless the file wants one. Such a job has all the
// time it needs where the file does not bound it.
func (p *Pipeline) giveToService() {
	for _, job := range p.Job {
		wants := func(key string) bool { return p.ix.has("job", job.written, key) }
		only := len(job.Step) > 0
		alone := false
		for _, s := range job.Step {
			only = only && s.doer() != action.Runner
			alone = alone || s.doer() == action.Service
		}
		if job.Ask != nil || !only || !alone && slices.ContainsFunc(forMachines, wants) {
			continue
		}
		job.Machine = []string{ServiceMachine}
		if !wants("limit") {
			job.Limit = ""
		}
	}
}

// machines complains of what is for a machine in a job of the service, and of the service's work in another.
func machines(v *validator, job *Job, in func(...string) []string) {
	if job.ByService() {
		for _, key := range forMachines {
			if v.ix.has(in(key)...) {
				v.add("bad-value", fmt.Sprintf("%s says nothing here: the service does all steps of this job", key),
					fmt.Sprintf("Remove %s.", key), in(key)...)
			}
		}
		return
	}
	for i, s := range job.Step {
		if s.doer() == action.Service {
			_, key := s.Action()
			v.add("bad-value", fmt.Sprintf("%s is done by the service, and other steps of this job by a machine", key),
				"Put it into a job of its own, after this one.", in("step", fmt.Sprint(i), key)...)
		}
	}
}
