package notify

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/world"
)

const (
	// answerWithin is how long somebody may take to answer, all of it.
	answerWithin = 15 * time.Second
	// answerKept is how much of an answer is kept, in bytes.
	answerKept = 500
	// triedFor is how long a message is tried.
	triedFor = 24 * time.Hour
	// keptFor is how long messages that have ended are kept.
	keptFor = 30 * 24 * time.Hour
)

// longestPause is how long is waited at most before a message is tried again.
const longestPause = 2 * time.Hour

// pause is how long is waited after so many tries: a second, and each time twice as long.
func pause(tries int) time.Duration { return min(time.Second<<min(tries, 20), longestPause) }

// deliver sends a message.
func (s *Notify) deliver(ctx context.Context, of messageDue) error {
	m, err := s.Store.MessageByID(ctx, of.Message)
	if errors.Is(err, store.ErrNotFound) || err == nil && m.State != store.MessageQueued {
		return nil
	}
	if err != nil {
		return err
	}
	w, err := s.Store.WebhookByID(ctx, m.WebhookID)
	if err != nil {
		return err
	}
	if w.Paused != "" {
		return ground.InAWhile(time.Hour)
	}
	status, answer, err := s.send(ctx, w, m)
	written := context.WithoutCancel(ctx)
	if err == nil {
		return s.Store.TriedMessage(written, m.ID, store.MessageSent, status, answer)
	}
	if status == http.StatusGone { // Standard Webhooks, "Webhook delivery": it wants no more
		if err := s.Store.PauseWebhook(written, w.ID, "it answered that it is gone (410)"); err != nil {
			return err
		}
		return s.Store.TriedMessage(written, m.ID, store.MessageRefused, status, answer)
	}
	if time.Since(m.Queued) > triedFor {
		return s.Store.TriedMessage(written, m.ID, store.MessageRefused, status, answer)
	}
	if err := s.Store.TriedMessage(written, m.ID, store.MessageQueued, status, answer); err != nil {
		return err
	}
	return ground.InAWhile(pause(m.Tries))
}

// send says a message, signed. An answer of 2xx is a thank-you; anything else an error, with what was said.
func (s *Notify) send(ctx context.Context, w store.Webhook, m store.Message) (status int, answer string, err error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	to, err := world.Address(w.URL, "a webhook")
	if err != nil {
		return 0, err.Error(), err
	}
	secret, err := s.vault.Open(w.Ciphertext)
	if err != nil {
		return 0, "the service cannot open what it signs with", err
	}
	signer, err := standardwebhooks.NewWebhook(string(secret))
	if err != nil {
		return 0, "", err
	}
	id, now := fmt.Sprintf("msg_%d_%d", m.ID, w.ID), time.Now()
	signature, err := signer.Sign(id, now, []byte(m.Body))
	if err != nil {
		return 0, "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, strings.NewReader(m.Body))
	if err != nil {
		return 0, err.Error(), err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "Gentle-Piston")
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := world.Speaker(to, w.Inside).Do(req)
	if err != nil {
		return 0, why(err), err
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(res.Body, answerKept)) // what there is of it
	answer = plain.Line(string(text))
	if res.StatusCode/100 != 2 {
		return res.StatusCode, answer, fmt.Errorf("it answered %s", res.Status)
	}
	return res.StatusCode, answer, nil
}

// why is an error without the address, which may hold what nobody is to read.
func why(err error) string {
	var at interface{ Unwrap() error }
	if errors.As(err, &at) && at.Unwrap() != nil {
		err = at.Unwrap()
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("no answer within %s", answerWithin)
	}
	return plain.Line(err.Error())
}

// forget drops messages that have ended long ago.
func (s *Notify) forget(ctx context.Context) error {
	return s.Store.DropMessages(ctx, time.Now().Add(-keptFor))
}
