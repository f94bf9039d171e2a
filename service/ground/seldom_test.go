package ground

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

// paper is written to by several at once.
type paper struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (p *paper) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.text.Write(b)
}

func (p *paper) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.text.String()
}

func TestTheSameWordsAreSaidOnceInAWhile(t *testing.T) {
	var out paper
	h := newSeldom(slog.NewTextHandler(&out, nil))
	log := slog.New(h)
	for range 3 {
		log.Error("the tide is out", "attempt", 1)
		log.With("client", 7).WithGroup("g").Error("the tide is out", "attempt", 2)
		log.Info("all is well")
		log.With("client", 7).Info("all is well")
	}
	log.Warn("another thing")
	assert.Equal(t, 1, strings.Count(out.String(), "the tide is out"), "%s", &out)
	assert.Equal(t, 1, strings.Count(out.String(), "another thing"))
	assert.NotContains(t, out.String(), "all is well")
	later := slog.NewRecord(time.Now().Add(seldomEvery), slog.LevelError, "the tide is out", 0)
	require.NoError(t, h.Handle(t.Context(), later))
	assert.Equal(t, 2, strings.Count(out.String(), "the tide is out"), "after a while again")
}

// What one server of all does fails as loudly as what each does, and comes again.
func TestAnUpkeepThatFailsIsSaid(t *testing.T) {
	st, err := store.Open(t.Context(), testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	var out paper
	g, err := New(st, nil, t.TempDir(), 0, slog.New(slog.NewTextHandler(&out, nil)))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	tried := make(chan int, 9)
	n := 0
	g.OneOfAll(Upkeep{What: "sweeping the quay", Every: 2 * time.Second, Do: func(context.Context) error {
		n++
		tried <- n
		if n == 1 {
			return errors.New("the broom is gone")
		}
		panic("it is raining")
	}})
	require.NoError(t, g.Background())
	for range 3 {
		select {
		case <-tried:
		case <-time.After(60 * time.Second):
			t.Fatal("it does not come again")
		}
	}
	require.Eventually(t, func() bool {
		return strings.Contains(out.String(), "sweeping the quay: the broom is gone") && strings.Contains(out.String(), "it is raining")
	}, 10*time.Second, 10*time.Millisecond, "%s", &out)
}
