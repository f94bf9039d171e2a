package definition

import (
	"fmt"
	"maps"
	"slices"
)

// DealsOver is the value of a job's variants among which one of its steps deals; "" when that cannot be told.
func (j *Job) DealsOver(s *Step) string {
	if s.Deal == nil {
		return ""
	}
	if _, is := j.Variant[s.Deal.Over]; is {
		return s.Deal.Over
	}
	if s.Deal.Over == "" && len(j.Variant) == 1 {
		return slices.Collect(maps.Keys(j.Variant))[0]
	}
	return ""
}

// DealtWith lists the variants of a job among which one of its steps deals, as they are in the pipeline: those that
// differ from it in that one value. The job itself is one of them.
func (j *Job) DealtWith(s *Step, all []*Job) (list []*Job) {
	over := j.DealsOver(s)
	for _, other := range all {
		if other.Of != j.Of || over == "" {
			continue
		}
		same := true
		for name, value := range j.Variant {
			same = same && (name == over || other.Variant[name] == value)
		}
		if same {
			list = append(list, other)
		}
	}
	return list
}

// dealing complains of steps that deal among nobody.
func dealing(v *validator, job *Job) {
	for i, s := range job.Step {
		if s.Deal == nil || job.DealsOver(s) != "" {
			continue
		}
		message, fix := "the job has no variants to deal among", `Add variants = { over = { PART = ["1", "2", "3"] } } to it.`
		if len(job.Variant) > 0 {
			names := slices.Sorted(maps.Keys(job.Variant))
			message = fmt.Sprintf("among which of the job's values is dealt: one of %q", names)
			fix = fmt.Sprintf("Add over = %q, for example.", names[0])
		}
		v.add("bad-value", message, fix, "job", job.written, "step", fmt.Sprint(i), "deal")
	}
}
