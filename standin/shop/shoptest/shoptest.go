// Package shoptest serves stand-ins of stores for tests, and does on their pages what people do there.
package shoptest

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/standin/shop"
)

// Target is the level of Android's interface for which the packages of tests are made.
const Target = 29

// Serve serves one in a folder of its own until the test ends, and tells where it is.
func Serve(t testing.TB, o shop.Options) (s *shop.Shop, at string) {
	t.Helper()
	o.Folder, o.Target = t.TempDir(), Target
	s, err := shop.Open(o)
	require.NoError(t, err)
	on, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at = "http://" + on.Addr().String()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, on, at) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-ended)
	})
	return s, at
}

// Fill fills in a form of its page.
func Fill(t testing.TB, form string, fields ...string) {
	t.Helper()
	values := url.Values{}
	for i := 0; i < len(fields); i += 2 {
		values.Set(fields[i], fields[i+1])
	}
	res, err := http.PostForm(form, values)
	require.NoError(t, err)
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusOK, res.StatusCode, "%s", text)
}

// Enter makes the entry of an app, with all that a store where a machine looks asks of it.
func Enter(t testing.TB, at, app string) {
	t.Helper()
	Fill(t, at+"/entries", "app", app, "policy", "https://tidewick.example/policy", "countries", "all", "age", "3",
		"pictures", "2")
}
