package notify

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/world"
)

var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$`)

// mostWebhooks bounds the webhooks of a project.
const mostWebhooks = 20

// Set sets a webhook, or another in its place. By what its messages are signed is told once.
func (s *Notify) Set(ctx context.Context, project, name string, in api.NewWebhook) (api.Webhook, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Webhook{}, err
	}
	if !nameForm.MatchString(name) {
		return api.Webhook{}, fmt.Errorf("%q is %w as a name: letters, digits, - and _", name, ground.ErrInvalid)
	}
	if _, err := world.Address(in.URL, "a webhook"); err != nil {
		return api.Webhook{}, fmt.Errorf("%w: %w", ground.ErrInvalid, err)
	}
	if len(in.Kinds) == 0 {
		in.Kinds = news.ForPrograms
	}
	kinds := make([]string, len(in.Kinds))
	for i, k := range in.Kinds {
		if !news.Known(k) {
			return api.Webhook{}, fmt.Errorf("nobody is told of %q: %w", k, ground.ErrInvalid)
		}
		kinds[i] = string(k)
	}
	secret := make([]byte, 24) // Standard Webhooks: 24 to 64 bytes
	if _, err := rand.Read(secret); err != nil {
		return api.Webhook{}, err
	}
	text := "whsec_" + base64.StdEncoding.EncodeToString(secret)
	w := store.Webhook{ProjectID: p.ID, Name: name, URL: in.URL, Kinds: kinds, Inside: ground.WhoAsks(ctx).Administrator,
		SetBy: ground.WhoAsks(ctx).Name}
	err = s.vault.Sealing(ctx, []byte(text), func(q ground.Q, sealed []byte, to string) error {
		if err := q.LockWebhooks(ctx, p.ID); err != nil {
			return err
		}
		all, err := q.Webhooks(ctx, p.ID)
		if err != nil {
			return err
		}
		known := slices.ContainsFunc(all, func(w store.Webhook) bool { return w.Name == name })
		if len(all) >= mostWebhooks && !known {
			return fmt.Errorf("a project has at most %d webhooks: %w", mostWebhooks, ground.ErrInvalid)
		}
		w.Ciphertext = sealed
		if err := q.SetWebhook(ctx, w, to); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.WebhookSet, Project: project, Subject: name,
			After: map[string]any{"url": in.URL, "kinds": kinds}})
	})
	if err != nil {
		return api.Webhook{}, err
	}
	if w, err = s.Store.WebhookByName(ctx, p.ID, name); err != nil {
		return api.Webhook{}, err
	}
	out := webhookOf(w)
	out.Secret = text
	return out, nil
}

func webhookOf(w store.Webhook) api.Webhook {
	out := api.Webhook{Name: w.Name, URL: w.URL, Kinds: []news.Kind{}, Inside: w.Inside, Paused: w.Paused, By: w.SetBy,
		Set: w.Set}
	for _, k := range w.Kinds {
		out.Kinds = append(out.Kinds, news.Kind(k))
	}
	return out
}

// List lists a project's webhooks.
func (s *Notify) List(ctx context.Context, project string) ([]api.Webhook, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Webhooks(ctx, p.ID)
	out := []api.Webhook{}
	for _, w := range list {
		out = append(out, webhookOf(w))
	}
	return out, err
}

// Drop removes a webhook.
func (s *Notify) Drop(ctx context.Context, project, name string) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	told := fact.Fact{Kind: fact.WebhookDrop, Project: project, Subject: name}
	err = s.Acting(ctx, told, func(q ground.Q) error { return q.DropWebhook(ctx, p.ID, name) })
	return ground.Known(err, "webhook %s of %s", name, project)
}

// Try has a message sent that says nothing but that it arrives.
func (s *Notify) Try(ctx context.Context, project, name string) error {
	w, p, err := s.find(ctx, project, name)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		now := time.Now()
		return s.write(ctx, q, w, told{project: p, kind: news.SomebodyTriesOut, key: fmt.Sprintf("tried %d", now.UnixNano()),
			subject: ground.WhoAsks(ctx).Name + " wants to see whether this arrives", path: "/" + project, at: now})
	})
}

func (s *Notify) find(ctx context.Context, project, name string) (store.Webhook, store.Project, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return store.Webhook{}, p, err
	}
	w, err := s.Store.WebhookByName(ctx, p.ID, name)
	return w, p, ground.Known(err, "webhook %s of %s", name, project)
}

// Messages lists what was sent to a webhook, with what it answered.
func (s *Notify) Messages(ctx context.Context, project, name string, f api.MessageFilter) (api.MessagePage, error) {
	out := api.MessagePage{Messages: []api.Message{}}
	w, _, err := s.find(ctx, project, name)
	if err != nil {
		return out, err
	}
	list, err := s.Store.Messages(ctx, w.ID, store.MessageFilter{State: f.State, Before: f.Before, Limit: f.Limit + 1})
	for i, m := range list {
		if i == f.Limit {
			out.Next = list[i-1].ID
			break
		}
		out.Messages = append(out.Messages, api.Message{ID: m.ID, Kind: m.Kind, State: m.State, Tries: m.Tries,
			Status: m.Status, Answer: m.Answer, Body: m.Body, Queued: m.Queued, Tried: m.Tried, Ended: m.Ended})
	}
	return out, err
}

// Again has a message sent again. It keeps its id, by which who has it already knows it.
func (s *Notify) Again(ctx context.Context, project, name string, id record.MessageID) error {
	w, _, err := s.find(ctx, project, name)
	if err != nil {
		return err
	}
	m, err := s.Store.MessageByID(ctx, id)
	if err == nil && m.WebhookID != w.ID {
		err = store.ErrNotFound
	}
	if err != nil {
		return ground.Known(err, "message %d to %s", id, name)
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		if err := q.RequeueMessage(ctx, id); err != nil {
			return err
		}
		return q.PutOff(ctx, messageDue{id})
	})
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("message %d is on its way: %w", id, ground.ErrInvalid)
	}
	return err
}
