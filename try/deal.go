package try

import (
	"context"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/deal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
)

// Deal deals among the variants of a job as the service does, but that it knows of nothing how long it takes.
func (d *desk) Deal(_ context.Context, attempt record.AttemptID, in api.DealRequest) (api.Dealt, error) {
	name := d.of(attempt).name
	all := make([]*definition.Job, 0, len(d.pipeline.Job))
	for _, n := range d.pipeline.JobNames() {
		all = append(all, d.pipeline.Job[n])
	}
	job := d.pipeline.Job[name]
	among := job.DealtWith(job.Step[in.Step], all)
	shares, _ := deal.Out(in.Items, deal.Times{}, len(among))
	for i, other := range among {
		if other.Name == name {
			return api.Dealt{Items: shares[i].Items, Among: len(among)}, nil
		}
	}
	return api.Dealt{}, fmt.Errorf("job %s deals among nobody", name)
}
