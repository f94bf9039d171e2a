package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// ErrSignature says that a push is not signed as it must be.
var ErrSignature = errors.New("the signature does not fit")

// maxPlanTries is how often planning a push is tried when the repository cannot be read.
const maxPlanTries = 20

// ReceiveSigned records a push reported by the rules of Standard Webhooks (1.0.0): the signature must fit the body,
// the timestamp be within five minutes, and a delivery that came before starts nothing again.
func (s *Service) ReceiveSigned(ctx context.Context, project string, header http.Header, body []byte) (api.PushAccepted, error) {
	p, err := s.store.ProjectByName(ctx, project)
	if errors.Is(err, store.ErrNotFound) {
		return api.PushAccepted{}, ErrSignature // no word on which projects there are
	}
	if err != nil {
		return api.PushAccepted{}, err
	}
	key, err := s.vault.open(p.HookKey)
	if err != nil {
		return api.PushAccepted{}, err
	}
	hook, err := standardwebhooks.NewWebhook(string(key))
	if err != nil {
		return api.PushAccepted{}, err
	}
	if err := hook.Verify(body, header); err != nil {
		return api.PushAccepted{}, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	event, err := readPush(body)
	if err != nil {
		return api.PushAccepted{}, err
	}
	return s.receive(ctx, p, header.Get(standardwebhooks.HeaderWebhookID), event)
}

func readPush(body []byte) (api.PushEvent, error) {
	var event api.PushEvent
	if err := json.Unmarshal(body, &event); err != nil {
		return event, fmt.Errorf("the body is %w: %w", ErrInvalid, err)
	}
	if event.Type != "push" || len(event.Data.Updates) == 0 || len(event.Data.Updates) > 1000 {
		return event, fmt.Errorf(`the body is %w: type must be "push" and data.updates hold 1 to 1000 refs`, ErrInvalid)
	}
	for _, u := range event.Data.Updates {
		if !objectID(u.Before) || !objectID(u.After) || !strings.HasPrefix(u.Ref, "refs/") || len(u.Ref) > 1024 {
			return event, fmt.Errorf("ref update %.80q %.80q %.80q is %w: give refs/… and two object ids", u.Ref, u.Before, u.After, ErrInvalid)
		}
	}
	return event, nil
}

func objectID(s string) bool {
	return (len(s) == 40 || len(s) == 64) && strings.Trim(s, "0123456789abcdef") == ""
}

// receive records a push, then plans it at once; should that be cut short, upkeep plans it later.
func (s *Service) receive(ctx context.Context, p store.Project, delivery string, event api.PushEvent) (api.PushAccepted, error) {
	body, err := json.Marshal(event)
	if err != nil {
		return api.PushAccepted{}, err
	}
	id, again, err := s.store.AddPush(ctx, p.ID, delivery, body)
	if err != nil {
		return api.PushAccepted{}, err
	}
	if !again {
		s.work.Add(1)
		go func() {
			defer s.work.Done()
			s.planPush(s.life, id)
		}()
	}
	return api.PushAccepted{ID: id, Repeat: again}, nil
}

// planPush turns a recorded push into runs, once: the runs and the mark that it is planned are one transaction.
func (s *Service) planPush(ctx context.Context, id int64) {
	err := s.tryPlanPush(ctx, id)
	if err == nil || errors.Is(err, store.ErrNotFound) || ctx.Err() != nil || store.Unavailable(err) {
		return
	}
	s.log.Warn("a push could not be planned", "push", id, "error", err)
	tries, noteErr := s.store.PushFailed(ctx, id, err.Error())
	if noteErr == nil && tries >= maxPlanTries {
		s.log.Error("giving up on a push", "push", id, "tries", tries, "error", err)
		_ = s.store.PushPlanned(ctx, id, "given up: "+err.Error())
	}
}

func (s *Service) tryPlanPush(ctx context.Context, id int64) error {
	err := s.store.Tx(ctx, func(q store.Q) error {
		push, err := q.TakePush(ctx, id)
		if err != nil {
			return err
		}
		p, err := q.ProjectByID(ctx, push.ProjectID)
		if err != nil {
			return err
		}
		var event api.PushEvent
		if err := json.Unmarshal(push.Body, &event); err != nil {
			return err
		}
		planned, err := s.planUpdates(ctx, q, p, event.Data.Updates)
		if err != nil {
			return err
		}
		return q.PushPlanned(ctx, id, fmt.Sprintf("%d runs", planned))
	})
	if err == nil {
		s.announce()
	}
	return err
}

func (s *Service) planUpdates(ctx context.Context, q store.Q, p store.Project, updates []plan.RefUpdate) (runs int, err error) {
	repo, err := source.Open(ctx, p.Remote, s.mirror(p.ID))
	if err != nil {
		return 0, err
	}
	if err := repo.Fetch(ctx, p.Remote); err != nil {
		return 0, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return 0, err
	}
	defer reader.Close()
	for _, u := range updates {
		event, ok := plan.Of(u)
		if !ok {
			continue
		}
		made, err := s.planEvent(ctx, q, p, reader, event, "", "")
		if errors.Is(err, source.ErrNoObject) {
			// The push was undone before it could be read; there is nothing left to build.
			s.log.Warn("a pushed commit is not in the repository any more", "project", p.Name, "ref", u.Ref, "commit", u.After)
			continue
		}
		if err != nil {
			return runs, err
		}
		runs += len(made)
	}
	return runs, nil
}

// announce publishes what is in the outbox and wakes waiting runners.
func (s *Service) announce() {
	poke(s.kick)
	s.stream.Wake(jobsTopic)
}

// jobsTopic is woken when there may be work to claim.
const jobsTopic = "jobs"

// spoolAge is how long a recorded push may stay unplanned before upkeep looks after it.
const spoolAge = 5 * time.Second

// collectMissed takes in the pushes that hooks laid beside repositories of this machine while no service answered.
func (s *Service) collectMissed(ctx context.Context) error {
	projects, err := s.store.Projects(ctx, "", maxSources)
	if err != nil {
		return err
	}
	for _, p := range projects {
		if !source.IsLocal(p.Remote) {
			continue
		}
		repo, err := source.Open(ctx, p.Remote, "")
		if err != nil {
			continue // a run of this project will say so
		}
		waiting, err := hook.List(repo.Dir)
		if err != nil {
			return err
		}
		for _, w := range waiting {
			if _, err := s.receive(ctx, p, w.Delivery, w.Event); err != nil {
				return err
			}
			if err := os.Remove(w.File); err != nil {
				return err
			}
		}
	}
	return nil
}
