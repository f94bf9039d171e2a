package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
)

// hearing is a program that is told of things, and is busy every tenth time.
type hearing struct {
	*httptest.Server
	mu    sync.Mutex
	asked int
	thank map[string]int // how often it has thanked for a message, by its id
	told  map[string]bool
}

func hear(t *testing.T) *hearing {
	t.Helper()
	h := &hearing{thank: map[string]int{}, told: map[string]bool{}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		var event struct{ ID string }
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.asked++; err != nil || h.asked%10 == 0 || json.Unmarshal(body, &event) != nil {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		h.thank[r.Header.Get("webhook-id")]++
		h.told[event.ID] = true
		w.WriteHeader(http.StatusNoContent)
	}))
	t.Cleanup(h.Close)
	return h
}

// counts are how many messages have arrived, and how many more than once.
func (h *hearing) counts() (arrived, twice int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range h.thank {
		if n > 1 {
			twice++
		}
	}
	return len(h.thank), twice
}

func TestMessagesArriveOnceAndKillsLoseNone(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "0")
	s.script(t, "told", "true")
	h := hear(t)
	_, err := s.cl.SetWebhook(t.Context(), "told", "chat", api.NewWebhook{URL: h.URL})
	require.NoError(t, err)
	const each = 40
	send := func() {
		for range each {
			require.NoError(t, s.cl.TryWebhook(t.Context(), "told", "chat"))
		}
	}
	send()
	arrive := func(n int) {
		require.Eventually(t, func() bool { arrived, _ := h.counts(); return arrived >= n }, 90*time.Second, 50*time.Millisecond)
	}
	arrive(each)
	arrived, twice := h.counts()
	assert.Equal(t, each, arrived)
	assert.Zero(t, twice, "who has thanked is not told again")

	// What was accepted arrives, whoever is killed before it is sent.
	for _, kill := range []func(){
		func() { _ = s.cmd.Process.Kill(); _ = s.cmd.Wait(); s.start(t) },
		func() { require.NoError(t, syscall.Kill(s.postgresPid(t), syscall.SIGKILL)) },
		func() { _ = s.cmd.Process.Kill(); _ = s.cmd.Wait(); s.start(t) },
	} {
		send()
		kill()
	}
	require.Eventually(t, func() bool {
		page, err := s.cl.Messages(t.Context(), "told", "chat", api.MessageFilter{State: "queued", Limit: 1})
		return err == nil && len(page.Messages) == 0
	}, 2*time.Minute, 200*time.Millisecond)
	arrived, twice = h.counts()
	assert.Equal(t, 4*each, arrived, "each by the id that it keeps")
	t.Logf("%d messages; %d were thanked for twice, since a kill came between the thanks and the note of it", arrived, twice)
}
