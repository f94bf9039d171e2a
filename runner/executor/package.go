package executor

import (
	"context"
	"errors"
	"strings"

	"gentlepiston.example/piston/core/appbundle"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/packaging"
)

// packs carries out a step that makes a package. It is made in the job's sandbox.
type packs struct{ *Job }

// packed hears what was made.
type packed struct {
	*Job
	step int
}

// hear implements listener.
func (p packed) hear(q packaging.Question) (*packaging.Answer, error) {
	made := q.Packed
	if made == nil {
		return nil, errors.New("the making of a package asked for something else")
	}
	p.Attempt.Say(p.step, "%s: %s %s (%s), %s", made.File, made.ID, made.Version, made.Build, quantity.Bytes(made.Size))
	p.Attempt.Say(p.step, "  modules: %s", strings.Join(made.Modules, ", "))
	if len(made.Left) > 0 {
		p.Attempt.Say(p.step, "  left out, as their manifests say: %s", strings.Join(made.Left, ", "))
	}
	if len(made.Processors) > 0 {
		p.Attempt.Say(p.step, "  processors: %s", strings.Join(made.Processors, ", "))
	}
	return nil, nil
}

func (p packs) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	do := step.Package
	pack := packaging.Pack{Modules: do.Modules, Mapping: do.Mapping, Bundle: do.Bundle, Into: do.Into}
	if do.Device != nil {
		d := appbundle.Device(*do.Device)
		pack.Device = &d
	}
	return Outcome{Err: p.inside(ctx, i, packaging.Work{Pack: &pack}, packed{p.Job, i})}
}
