package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"syscall"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/store"
)

func TestPositionsSurvive(t *testing.T) {
	text := position(1042, map[string]int64{"core.1": 200, "android.2": 14})
	assert.Equal(t, "1042;android.2:14;core.1:200", text)
	sub := report.Subscription{Cursors: map[string]int64{}}
	readPosition(text, &sub)
	assert.EqualValues(t, 1042, sub.After)
	assert.Equal(t, map[string]int64{"core.1": 200, "android.2": 14}, sub.Cursors)
	for _, junk := range []string{"", ";;;", "x", "-5;a:-3;b:999999999999999999999", "1;:2:3"} {
		sub := report.Subscription{Cursors: map[string]int64{}}
		assert.NotPanics(t, func() { readPosition(junk, &sub) })
		for _, n := range sub.Cursors {
			assert.Positive(t, n)
		}
	}
}

func TestErrorsBecomeFittingProblems(t *testing.T) {
	for err, want := range map[error]int{
		ground.ErrNotFound: 404, ground.ErrExists: 409, ground.ErrInvalid: 422, ground.ErrSignIn: 401, intake.ErrSignature: 401,
		ground.ErrForbidden: 403, ground.ErrGone: 410, errors.New("a fault"): 500,
		store.ErrNotFound: 409, store.ErrExists: 409, context.Canceled: 503, syscall.ENOSPC: 507, &pgconn.PgError{Code: "40P01"}: 503,
	} {
		var status huma.StatusError
		require.ErrorAs(t, problem(t.Context(), fmt.Errorf("while trying: %w", err)), &status)
		assert.Equal(t, want, status.GetStatus(), err)
		if want == 500 {
			assert.NotContains(t, status.Error(), "a fault", "the inside of the server is not told")
		}
	}
	assert.NoError(t, problem(t.Context(), nil))
}

func TestTheDocumentHoldsWhatTheConsoleIsMadeFrom(t *testing.T) {
	text, err := Document()
	require.NoError(t, err)
	var doc struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]any `json:"properties"`
			} `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	for _, name := range []string{"RunDetail", "Change", "LogBatch", "Job", "DefinedJob", "PushEvent"} {
		assert.Contains(t, doc.Components.Schemas, name)
	}
	assert.Contains(t, doc.Components.Schemas["Job"].Properties, "timing")
	assert.Contains(t, doc.Components.Schemas["DefinedJob"].Properties, "keep")
}

func TestARequestThatIsGivenUpIsNoFault(t *testing.T) {
	late, cancel := context.WithTimeout(context.Background(), -time.Second)
	defer cancel()
	status := func(ctx context.Context, err error) int {
		var is huma.StatusError
		require.ErrorAs(t, problem(ctx, err), &is)
		return is.GetStatus()
	}
	timeout := fmt.Errorf("timeout: %w", context.DeadlineExceeded)
	assert.Equal(t, http.StatusServiceUnavailable, status(late, timeout), "its own time is over")
	assert.Equal(t, http.StatusInternalServerError, status(context.Background(), timeout), "another's is not its own")
	assert.Equal(t, http.StatusNotFound, status(late, ground.ErrNotFound), "what is known is said")
}
