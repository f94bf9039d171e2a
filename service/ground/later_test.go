package ground

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

func TestMain(m *testing.M) { testdb.Main(m, store.Prepare) }

// greeting is work that is put off.
type greeting struct {
	To string `json:"to"`
}

func (greeting) Kind() string { return "greeting" }

func opened(t *testing.T, dsn string) *Ground {
	t.Helper()
	st, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	g, err := New(st, nil, t.TempDir(), 0, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	return g
}

func TestWhatIsPutOffIsDoneOnceWhenItIsCommitted(t *testing.T) {
	g := opened(t, testdb.New(t))
	came := make(chan string, 9)
	tries := atomic.Int32{}
	Does(g, func(ctx context.Context, of greeting) error {
		if WhoAsks(ctx).Kind != itself {
			return errors.New("not the service itself")
		}
		if of.To == "ben" && tries.Add(1) == 1 {
			return errors.New("ben is out")
		}
		came <- of.To
		return nil
	})
	require.NoError(t, g.Background())
	ctx := AsItself(t.Context())
	require.Error(t, g.Tx(ctx, func(q Q) error {
		require.NoError(t, q.PutOff(ctx, greeting{"nobody"}))
		return errors.New("the transaction is given up")
	}))
	require.NoError(t, g.Tx(ctx, func(q Q) error { return q.PutOff(ctx, greeting{"ada"}, greeting{"ben"}) }))
	assert.Error(t, Q{g.Store.Q, &fact.Follows{}, g.later.Later}.PutOff(ctx, greeting{"eve"}), "outside a transaction")
	got := map[string]bool{}
	for range 2 {
		select {
		case name := <-came:
			got[name] = true
		case <-time.After(30 * time.Second):
			t.Fatal("it was not done")
		}
	}
	assert.Equal(t, map[string]bool{"ada": true, "ben": true}, got)
	assert.EqualValues(t, 2, tries.Load(), "what failed is done again")
	assert.Empty(t, came)
}

func TestOneServerOfAllDoesAnUpkeep(t *testing.T) {
	dsn := testdb.New(t)
	var done atomic.Int32
	for range 3 {
		g := opened(t, dsn)
		g.OneOfAll(Upkeep{What: "counting", Every: 2 * time.Second, Do: func(context.Context) error {
			done.Add(1)
			return nil
		}})
		require.NoError(t, g.Background())
	}
	started := time.Now()
	require.Eventually(t, func() bool { return done.Load() >= 2 }, 60*time.Second, 50*time.Millisecond)
	assert.LessOrEqual(t, float64(done.Load()), time.Since(started).Seconds()/2+1, "not each server by itself")
}
