package service

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/standin/shop"
	"gentlepiston.example/piston/standin/shop/shoptest"
)

// toldOfEnds is what the webhook chat of a project was told, once it was told n things: the latest first.
func toldOfEnds(t *testing.T, s *Service, project string, n int) (said []string) {
	t.Helper()
	require.Eventually(t, func() bool {
		page, err := s.Notify.Messages(asItself(t), project, "chat", api.MessageFilter{Limit: 20})
		require.NoError(t, err)
		said = nil
		for _, m := range page.Messages {
			said = append(said, m.Body)
		}
		return len(said) >= n
	}, 20*time.Second, 20*time.Millisecond)
	return said
}

// What ends is told at each distance once, whoever looks and however often, and anew when another end has taken its
// place.
func TestWhatExpiresIsToldInTime(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "app")
	addProject(t, s, "other")
	now := time.Now()
	in := func(days int) *time.Time { at := now.AddDate(0, 0, days).Add(-time.Hour); return &at }
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "UPLOAD", textSecret("value of a secret"))
	require.NoError(t, err)
	shared := []string{"other"}
	_, err = s.Secrets.ChangeSecret(ctx, "app", "UPLOAD", api.SecretSettings{Shared: &shared, Expires: in(40)})
	require.NoError(t, err)
	made, err := s.Identities.SetIdentity(ctx, "app", "ada", "phones", api.NewIdentity{Platform: "android",
		Make: &api.MakeKey{Algorithm: identity.RSA3072, Name: "Tidewick", Years: 30}})
	require.NoError(t, err)
	for _, name := range []string{"app", "other"} {
		_, err := s.Notify.Set(ground.WithWho(ctx, ground.Who{Name: "root", Kind: api.PersonToken, Administrator: true}), name,
			"chat", api.NewWebhook{URL: listen(t).URL, Kinds: []news.Kind{news.Expiry}})
		require.NoError(t, err)
	}
	told := func(project string, n int) []string { return toldOfEnds(t, s, project, n) }
	look := func(days int) {
		for range 2 {
			require.NoError(t, s.Expiries.Tell(ctx, now.AddDate(0, 0, days)))
		}
	}
	look(0)
	look(9)
	look(10)
	assert.Contains(t, told("app", 1)[0], "the secret UPLOAD expires on "+in(40).UTC().Format(time.DateOnly)+", in 29 days")
	look(20) // nothing new
	look(34) // the server was away when there were seven
	assert.Contains(t, told("app", 2)[0], "in 5 days")
	look(39)
	assert.Contains(t, told("app", 3)[0], "within 23 h")
	look(50)
	assert.Contains(t, told("app", 4)[0], "has expired on")
	_, err = s.Secrets.ChangeSecret(ctx, "app", "UPLOAD", api.SecretSettings{Expires: in(60)})
	require.NoError(t, err)
	look(50)
	assert.Contains(t, told("app", 5)[0], "in 9 days")
	require.NoError(t, s.Expiries.Tell(ctx, made.Ends.AddDate(0, 0, -3)))
	list := strings.Join(told("app", 7), "\n") // the secret's end is long over by then
	assert.Contains(t, list, "the certificate of the identity phones expires on "+made.Ends.Format(time.DateOnly))
	assert.Empty(t, told("other", 0), "a secret is told of in its home")
}

// What is kept with a secret or an outlet ends, too, though nobody gave the day: a profile says it itself.
func TestProfilesAndOutletsExpire(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "app")
	now := time.Date(2030, 5, 1, 12, 0, 0, 0, time.UTC)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "PROFILE", textSecret(`<?xml version="1.0" encoding="UTF-8"?>
		<plist version="1.0"><dict><key>ExpirationDate</key><date>2030-05-09T12:00:00Z</date>
		<key>Entitlements</key><dict><key>get-task-allow</key><false/>
		<key>application-identifier</key><string>TEAM012345.org.tidewick.almanac</string></dict></dict></plist>`))
	require.NoError(t, err)
	market, at := shoptest.Serve(t, shop.Options{})
	in := storeOutlet(market, at)
	ends := now.AddDate(0, 0, 6)
	in.Expires = &ends
	_, err = s.Publish.SetOutlet(administrator(t), "app", "quayside", in)
	require.NoError(t, err)
	_, err = s.Notify.Set(administrator(t), "app", "chat",
		api.NewWebhook{URL: listen(t).URL, Kinds: []news.Kind{news.Expiry}})
	require.NoError(t, err)
	require.NoError(t, s.Expiries.Tell(ctx, now))
	list := strings.Join(toldOfEnds(t, s, "app", 2), "\n")
	assert.Contains(t, list, "the profile in the secret PROFILE expires on 2030-05-09, in 8 days")
	assert.Contains(t, list, "what the outlet quayside is spoken to with expires on 2030-05-07, in 6 days")
	assert.NotContains(t, list, market.Secret())
	require.NoError(t, s.Expiries.Tell(ctx, now.AddDate(0, 0, 2)))
	list = strings.Join(toldOfEnds(t, s, "app", 3), "\n")
	assert.Contains(t, list, "the profile in the secret PROFILE expires on 2030-05-09, in 6 days")
}
