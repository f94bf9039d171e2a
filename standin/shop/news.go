package shop

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/core/outletapi"
)

var teller = &http.Client{Timeout: 5 * time.Second}

// tell tells what has changed, by Standard Webhooks. What does not get there is left: whoever wants to know can ask.
func (s *Shop) tell(ctx context.Context) {
	s.mu.Lock()
	news, untold, how := s.kept.News, s.kept.Untold, s.faults.News
	s.mu.Unlock()
	if len(untold) == 0 {
		return
	}
	for _, t := range untold {
		if how == "never" {
			break
		}
		s.post(ctx, news, t, how == "forged")
		if how == "twice" {
			s.post(ctx, news, t, false)
		}
	}
	_ = s.change(func() error { // or they are told again
		s.kept.Untold = s.kept.Untold[len(untold):]
		return nil
	})
}

func (s *Shop) post(ctx context.Context, news outletapi.News, t outletapi.Told, forged bool) {
	text, err := json.Marshal(t)
	if err != nil {
		return
	}
	signer, err := standardwebhooks.NewWebhook(news.Secret)
	if err != nil {
		return
	}
	id, now := rand.Text(), time.Now()
	signature, err := signer.Sign(id, now, text)
	if err != nil {
		return
	}
	if forged {
		signature = "v1,Zm9yZ2Vk"
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, news.URL, bytes.NewReader(text))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	if res, err := teller.Do(req); err == nil {
		_ = res.Body.Close()
	}
}
