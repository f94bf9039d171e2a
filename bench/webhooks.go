package main

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
)

const (
	webhookMessages = 10_000
	webhookTellers  = 8
	webhooksWithin  = 3 * time.Minute
)

// webhooks measures how long many messages take to arrive at a program that is busy every tenth time.
func webhooks(ctx context.Context) error {
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	var mu sync.Mutex
	asked, thanked, all := 0, map[string]int{}, make(chan struct{})
	program := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if asked++; asked%10 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		id := r.Header.Get("webhook-id")
		if thanked[id]++; len(thanked) == webhookMessages && thanked[id] == 1 {
			close(all)
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	defer program.Close()
	if _, err := y.cl.SetWebhook(ctx, "yard", "program", api.NewWebhook{URL: program.URL}); err != nil {
		return err
	}
	began := time.Now()
	errs := make(chan error, webhookTellers)
	for range webhookTellers {
		go func() {
			for range webhookMessages / webhookTellers {
				if err := y.host.Service.Notify.Try(ground.AsItself(ctx), "yard", "program"); err != nil {
					errs <- err
					return
				}
			}
			errs <- nil
		}()
	}
	for range webhookTellers {
		if err := <-errs; err != nil {
			return err
		}
	}
	told := time.Since(began)
	select {
	case <-all:
	case <-time.After(webhooksWithin):
		mu.Lock()
		defer mu.Unlock()
		return fmt.Errorf("told of %d messages in %.0f s, %d have arrived", webhookMessages, told.Seconds(), len(thanked))
	}
	took := time.Since(began)
	mu.Lock()
	defer mu.Unlock()
	twice := 0
	for _, n := range thanked {
		if n > 1 {
			twice++
		}
	}
	fmt.Printf("%d messages were told of in %.0f s, and all had arrived after %.0f s (wanted 60), with %d requests; "+
		"%d arrived twice\n", webhookMessages, told.Seconds(), took.Seconds(), asked, twice)
	return nil
}
