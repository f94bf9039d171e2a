package intake

import (
	"context"
	"time"
)

func (s *Intake) planLeftBehind(ctx context.Context) error {
	ids, err := s.Store.UnplannedPushes(ctx, time.Now().Add(-spoolAge))
	for _, id := range ids {
		s.PlanRecorded(ctx, id)
	}
	return err
}
