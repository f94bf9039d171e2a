package work

import (
	"time"

	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/store"
)

func RunnerOf(r store.Runner) schedule.Runner {
	return schedule.Runner{Name: r.Name, Labels: r.Labels, Tools: r.Tools.V, Lacks: r.Lacks,
		There: time.Since(r.Seen) < onlineFor, Project: r.Project, Held: r.Held}
}
