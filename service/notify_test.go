package service

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
)

// listening is a program that is told of things, and answers as it is told to.
type listening struct {
	*httptest.Server
	mu      sync.Mutex
	secret  string
	answers []int // the next ones; then 204
	heard   []map[string]any
	ids     []string
	wrong   []error
}

func listen(t *testing.T) *listening {
	t.Helper()
	l := &listening{}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		signer, err := standardwebhooks.NewWebhook(l.secret)
		if err == nil {
			err = signer.Verify(body, r.Header)
		}
		if err != nil {
			l.wrong = append(l.wrong, err)
		}
		status := http.StatusNoContent
		if len(l.answers) > 0 {
			status, l.answers = l.answers[0], l.answers[1:]
		}
		if status/100 == 2 {
			event := map[string]any{}
			if err := json.Unmarshal(body, &event); err != nil {
				l.wrong = append(l.wrong, err)
			}
			l.heard, l.ids = append(l.heard, event), append(l.ids, r.Header.Get("webhook-id"))
		}
		if status == http.StatusFound {
			w.Header().Set("Location", l.URL+"/elsewhere")
		}
		w.WriteHeader(status)
		if status != http.StatusNoContent {
			fmt.Fprint(w, "busy\x1b[31m just now")
		}
	}))
	t.Cleanup(l.Close)
	return l
}

// types waits until so much was heard, and tells what it was.
func (l *listening) types(t *testing.T, n int) (list []string) {
	t.Helper()
	require.Eventually(t, func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		return len(l.heard) >= n
	}, 30*time.Second, 10*time.Millisecond)
	l.mu.Lock()
	defer l.mu.Unlock()
	assert.Empty(t, l.wrong)
	for _, h := range l.heard {
		list = append(list, h["type"].(string))
	}
	return list
}

func TestProgramsAreToldOfAChangeOnce(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "p")
	l := listen(t)
	root := ground.WithWho(ctx, ground.Who{Name: "root", Kind: api.PersonToken, Administrator: true})
	w, err := s.Notify.Set(root, "p", "chat", api.NewWebhook{URL: l.URL})
	require.NoError(t, err)
	l.mu.Lock()
	l.secret = w.Secret
	l.answers = []int{500}
	l.mu.Unlock()
	list, err := s.Notify.List(ctx, "p")
	require.NoError(t, err)
	assert.Empty(t, list[0].Secret, "it is told once")

	ran(t, s, course{commit: "a"})
	broke := ran(t, s, course{commit: "b", ends: state.Failed})
	ran(t, s, course{commit: "c", ends: state.Failed})
	ran(t, s, course{commit: "d"})
	ran(t, s, course{commit: "e"})
	const of = "example.gentlepiston."
	assert.ElementsMatch(t, []string{of + "pipeline.broke", of + "pipeline.recovered"}, l.types(t, 2),
		"what failed to arrive is sent again, and nothing else is told")
	l.mu.Lock()
	first := l.heard[0]
	for _, h := range l.heard {
		if strings.HasSuffix(h["type"].(string), "broke") {
			first = h
		}
	}
	l.mu.Unlock()
	assert.Equal(t, "1.0", first["specversion"])
	assert.Equal(t, fmt.Sprintf("/p/%d", broke), first["subject"])
	page, err := s.Notify.Messages(ctx, "p", "chat", api.MessageFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Messages, 2)
	tries := page.Messages[0].Tries + page.Messages[1].Tries
	assert.Equal(t, 3, tries)

	// Sent again, it is the same to who has it.
	require.NoError(t, s.Notify.Again(ctx, "p", "chat", page.Messages[0].ID))
	l.types(t, 3)
	l.mu.Lock()
	assert.Contains(t, l.ids[:2], l.ids[2])
	l.answers = []int{http.StatusGone}
	l.mu.Unlock()
	require.NoError(t, s.Notify.Try(ctx, "p", "chat"))
	require.Eventually(t, func() bool {
		list, err := s.Notify.List(ctx, "p")
		return err == nil && list[0].Paused != ""
	}, 20*time.Second, 10*time.Millisecond, "it wants no more")
	require.NoError(t, s.Notify.Drop(root, "p", "chat"))
	assert.ErrorIs(t, s.Notify.Drop(root, "p", "chat"), ground.ErrNotFound)
}

func TestNobodyIsToldWhereTheyMustNotBe(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "p")
	l := listen(t)
	keeper := ground.WithWho(ctx, addPerson(t, s, "ada"))
	for _, in := range []api.NewWebhook{{URL: "http://chat.example/x"}, {URL: "nonsense"}, {URL: "https://a:b@chat.example"},
		{URL: "file:///etc/passwd"}, {URL: "https://chat.example", Kinds: []news.Kind{"no.such"}}} {
		_, err := s.Notify.Set(keeper, "p", "chat", in)
		assert.ErrorIs(t, err, ground.ErrInvalid, in.URL)
	}
	_, err := s.Notify.Set(keeper, "p", "../chat", api.NewWebhook{URL: "https://chat.example"})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	// A keeper's webhook leads nowhere inside, by whatever name.
	for name, at := range map[string]string{"here": l.URL, "named": strings.Replace(l.URL, "127.0.0.1", "localhost", 1)} {
		_, err = s.Notify.Set(keeper, "p", name, api.NewWebhook{URL: at})
		require.NoError(t, err)
		require.NoError(t, s.Notify.Try(keeper, "p", name))
		assert.Contains(t, answered(t, s, name).Answer, "inside", name)
	}
	// Nor does one that an administrator has set lead elsewhere than it says.
	root := ground.WithWho(ctx, ground.Who{Name: "root", Kind: api.PersonToken, Administrator: true})
	w, err := s.Notify.Set(root, "p", "moved", api.NewWebhook{URL: l.URL})
	require.NoError(t, err)
	l.mu.Lock()
	l.secret, l.answers = w.Secret, []int{http.StatusFound}
	l.mu.Unlock()
	require.NoError(t, s.Notify.Try(root, "p", "moved"))
	assert.Contains(t, answered(t, s, "moved").Answer, "it sends on to")
	l.mu.Lock()
	assert.Empty(t, l.heard)
	l.mu.Unlock()
	assert.ErrorIs(t, s.Notify.Again(root, "p", "moved", 4711), ground.ErrNotFound)
}

// answered waits until a message was tried.
func answered(t *testing.T, s *Service, name string) (m api.Message) {
	t.Helper()
	require.Eventually(t, func() bool {
		page, err := s.Notify.Messages(asItself(t), "p", name, api.MessageFilter{Limit: 1})
		if err != nil || len(page.Messages) == 0 || page.Messages[0].Tries == 0 {
			return false
		}
		m = page.Messages[0]
		return true
	}, 20*time.Second, 10*time.Millisecond)
	return m
}

func TestPeopleAreToldWhatTheyWant(t *testing.T) {
	s := openWith(t, testdb.New(t), Options{Home: t.TempDir(), Mail: letters.Server{Address: "127.0.0.1:1",
		From: "piston@tidewick.example", Plain: true}})
	ctx := asItself(t)
	addProject(t, s, "p")
	for _, name := range []string{"Ines", "Jory", "Tam"} {
		addPerson(t, s, name)
		require.NoError(t, s.People.SetMail(ctx, name, api.MailAddress{Mail: strings.ToLower(name) + "@tidewick.example"}))
		require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "p", Person: name, Role: "reader"}))
	}
	jory, err := s.Store.PersonByName(ctx, "Jory")
	require.NoError(t, err)
	as := ground.WithWho(ctx, ground.Who{ID: jory.ID, Name: "Jory", Kind: api.PersonToken})
	w, err := s.Notify.Wish(as, api.Wish{Kinds: []string{string(news.PipelineMended)}})
	require.NoError(t, err)
	assert.Equal(t, []api.Wish{{Kinds: []string{"pipeline.recovered"}}}, w.Wishes)
	_, err = s.Notify.Wish(as, api.Wish{Kinds: []string{"no.such"}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.Notify.Wish(as, api.Wish{Project: "none", Kinds: []string{}})
	assert.ErrorIs(t, err, ground.ErrNotFound)

	ran(t, s, course{commit: "a"})
	ran(t, s, course{commit: "b", ends: state.Failed}) // Ines' commit, as all
	ran(t, s, course{commit: "c"})
	to := map[string]int{}
	require.Eventually(t, func() bool {
		clear(to)
		page, err := s.Letters.List(ctx, api.LetterFilter{Limit: 50})
		require.NoError(t, err)
		for _, l := range page.Letters {
			to[l.To]++
		}
		return to["ines@tidewick.example"] == 2 && to["jory@tidewick.example"] == 1
	}, 20*time.Second, 10*time.Millisecond, "%v", to)
	assert.NotContains(t, to, "tam@tidewick.example", "who has nothing to do with it hears nothing")
	require.NoError(t, s.Notify.Unwish(as, ""))
	w, err = s.Notify.Wishes(as)
	require.NoError(t, err)
	assert.True(t, w.Wishes[0].Unasked)
}

func TestABadgeAndAFeed(t *testing.T) {
	s := open(t)
	ctx := ground.WithWho(asItself(t), addPerson(t, s, "ada"))
	ran(t, s, course{commit: "a <&> b"})
	f, err := s.Notify.Feed(ctx, "p", false)
	require.NoError(t, err)
	key := strings.Split(f.Badge, "/")[2]
	same, err := s.Notify.Feed(ctx, "p", false)
	require.NoError(t, err)
	assert.Equal(t, f, same)
	badge, err := s.Notify.Badge(ctx, key, "", "main")
	require.NoError(t, err)
	assert.Contains(t, string(badge), "✓ passed")
	none, err := s.Notify.Badge(ctx, key, `"><script>`, "main")
	require.NoError(t, err)
	assert.NotContains(t, string(none), "<script>")
	assert.Contains(t, string(none), "no run yet")
	text, err := s.Notify.Atom(ctx, key)
	require.NoError(t, err)
	var feed struct {
		Entries []struct {
			Title   string `xml:"title"`
			Summary string `xml:"summary"`
		} `xml:"entry"`
	}
	require.NoError(t, xml.Unmarshal(text, &feed))
	require.Len(t, feed.Entries, 1)
	assert.Equal(t, "passed: run 1, trunk of main", feed.Entries[0].Title)
	assert.Equal(t, "About a <&> b", feed.Entries[0].Summary)
	_, err = s.Notify.Feed(ctx, "p", true)
	require.NoError(t, err)
	for _, k := range []string{key, "", "none"} {
		_, err = s.Notify.Atom(ctx, k)
		assert.ErrorIs(t, err, ground.ErrNotFound, "an address that is no more leads nowhere")
	}
}

// Who reads feeds asks whether there is something new by its date: runs end in another order than they begin.
func TestAFeedIsOfTheTimeAtWhichARunEndedLast(t *testing.T) {
	s, dsn := openOn(t)
	ctx := ground.WithWho(asItself(t), addPerson(t, s, "ada"))
	first := ran(t, s, course{})
	ran(t, s, course{})
	alter(t, dsn, fmt.Sprintf(`UPDATE runs SET finished_at = '2026-06-02T10:00:00Z' WHERE number = %d;
		UPDATE runs SET finished_at = '2026-06-01T10:00:00Z' WHERE number > %d;
		UPDATE projects SET created_at = '2026-05-01T10:00:00Z'`, first, first))
	f, err := s.Notify.Feed(ctx, "p", false)
	require.NoError(t, err)
	text, err := s.Notify.Atom(ctx, strings.Split(f.Badge, "/")[2])
	require.NoError(t, err)
	var feed struct {
		Updated string   `xml:"updated"`
		Entries []string `xml:"entry>updated"`
	}
	require.NoError(t, xml.Unmarshal(text, &feed))
	assert.Equal(t, "2026-06-02T10:00:00Z", feed.Updated)
	assert.Equal(t, []string{"2026-06-01T10:00:00Z", "2026-06-02T10:00:00Z"}, feed.Entries)
}

func TestWebhooksAreBoundedAndCanStillBeSet(t *testing.T) {
	s := open(t)
	ctx := ground.WithWho(asItself(t), addPerson(t, s, "ada"))
	addProject(t, s, "p")
	set := func(name, url string) error {
		_, err := s.Notify.Set(ctx, "p", name, api.NewWebhook{URL: url})
		return err
	}
	for i := range 16 {
		require.NoError(t, set(fmt.Sprintf("h%d", i), "https://chat.example/in"))
	}
	var many []func() error
	for i := range 8 {
		many = append(many, func() error { return set(fmt.Sprintf("at-once-%d", i), "https://chat.example/in") })
	}
	came := slices.Concat(together(1, many...)...)
	came = slices.DeleteFunc(came, func(err error) bool { return err == nil })
	assert.Len(t, came, 4, "those who come at the same moment are counted, too: %v", came)
	var err error
	err = set("one-more", "https://chat.example/in")
	require.ErrorIs(t, err, ground.ErrInvalid)
	assert.ErrorContains(t, err, "at most 20 webhooks")
	require.NoError(t, set("h7", "https://other.example/in"), "none is added")
	list, err := s.Notify.List(ctx, "p")
	require.NoError(t, err)
	assert.Len(t, list, 20)
}

func TestNumbersForPrograms(t *testing.T) {
	s := open(t)
	ran(t, s, course{commit: "a"})
	list, err := s.History.Metrics(asItself(t))
	require.NoError(t, err)
	values := map[string]float64{}
	for _, m := range list {
		values[m.Name] = m.Value
		assert.NotEmpty(t, m.Means)
	}
	assert.InDelta(t, 1, values["runs"], 0)
	assert.InDelta(t, 0, values["jobs_queued"], 0)
}

func TestAnAddressThatAnswersForEver(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := w.Write(make([]byte, 1<<16)); err != nil {
				return
			}
		}
	}))
	t.Cleanup(endless.Close)
	root := ground.WithWho(asItself(t), ground.Who{Name: "root", Kind: api.PersonToken, Administrator: true})
	_, err := s.Notify.Set(root, "p", "endless", api.NewWebhook{URL: endless.URL})
	require.NoError(t, err)
	require.NoError(t, s.Notify.Try(root, "p", "endless"))
	m := answered(t, s, "endless")
	assert.Equal(t, "sent", m.State, "it has said 200")
	assert.LessOrEqual(t, len(m.Answer), 500)
}
