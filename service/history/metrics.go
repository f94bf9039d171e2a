package history

import "context"

// Metric is a number of the service that programs watch.
type Metric struct {
	Name  string // without the service's own prefix
	Means string
	Total bool // it only ever rises
	Value float64
}

// Metrics are the numbers of the service.
func (s *History) Metrics(ctx context.Context) ([]Metric, error) {
	m, err := s.Store.Metrics(ctx)
	if err != nil {
		return nil, err
	}
	number := func(name, means string, v int64) Metric { return Metric{Name: name, Means: means, Value: float64(v)} }
	runs := number("runs", "Runs ever planned.", m.Runs)
	runs.Total = true
	return []Metric{runs,
		number("runs_queued", "Runs of which no job has begun.", m.Queued),
		number("runs_running", "Runs at work.", m.AtWork),
		number("runs_waiting", "Runs that wait for people.", m.Waiting),
		number("jobs_queued", "Jobs that wait for a machine.", m.Jobs),
		number("jobs_running", "Jobs that machines have.", m.Running),
		number("runners_online", "Runners seen within a minute.", m.Runners),
		number("runner_slots", "Jobs that they take at a time.", m.Slots),
		number("messages_queued", "Messages to webhooks on their way.", m.Messages),
		number("letters_queued", "Letters on their way.", m.Letters),
		number("pushes_unplanned", "Events that are not planned yet.", m.Pushes),
	}, nil
}
