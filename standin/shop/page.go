package shop

import (
	_ "embed"
	"errors"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/core/outletapi"
)

//go:embed page.html
var pageText string

var pageForm = template.Must(template.New("shop").Parse(pageText))

// desk is the page of a shop, on which is done what is done by hand at a store.
type desk struct{ *Shop }

// entry is an app as the page shows it.
type entry struct {
	*app
	Fields []field
	Lacks  map[string]bool
}

// register registers what is done by hand at a store. It is for people on this machine: a form
// of another site is refused.
func (s desk) register(r chi.Router) {
	r.Get("/", s.show)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler)
		r.Post("/entries", s.byHand(s.enter))
		r.Post("/drafts", s.byHand(s.draft))
		r.Post("/answers", s.byHand(s.answer))
		r.Post("/reviews", s.byHand(s.review))
		r.Post("/faults", s.byHand(s.setFaults))
	})
}

func (s desk) show(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	about := s.about()
	var entries []entry
	for _, a := range s.kept.Apps {
		e := entry{a, s.rules.form(), map[string]bool{}}
		for _, f := range e.Fields {
			e.Lacks[f.Key] = f.lacks(a.Form[f.Key])
		}
		entries = append(entries, e)
	}
	slices.SortFunc(entries, func(a, b entry) int { return strings.Compare(a.ID, b.ID) })
	offers := slices.Clone(s.kept.Offers)
	slices.Reverse(offers)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy",
		"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	_ = pageForm.Execute(w, map[string]any{"Name": about.Name, "About": about, "People": s.People, "Entries": entries,
		"Offers": offers, "Faults": s.faults, "NewsFaults": newsFaults}) // who reads it is gone
}

// byHand does what a form says, and shows the page again.
func (s desk) byHand(do func(r *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		err := r.ParseForm()
		if err == nil {
			err = s.change(func() error { return do(r) })
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		s.soon()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	}
}

// enter makes an entry for an app, or fills in what it lacks.
func (s desk) enter(r *http.Request) error {
	id := strings.TrimSpace(r.PostForm.Get("app"))
	if id == "" || len(id) > 255 || len(s.kept.Apps) >= 1000 {
		return errors.New("an entry is made for the id of an app")
	}
	a := s.kept.Apps[id]
	if a == nil {
		a = &app{ID: id, Form: map[string]string{}, Drafts: map[string]string{}}
		s.kept.Apps[id] = a
	}
	for _, f := range s.rules.form() {
		if r.PostForm.Has(f.Key) {
			a.Form[f.Key] = r.PostForm.Get(f.Key)
		}
	}
	return nil
}

// draft begins a draft by hand, or takes it away when no version is given.
func (s desk) draft(r *http.Request) error {
	a := s.kept.Apps[r.PostForm.Get("app")]
	channel := r.PostForm.Get("channel")
	if a == nil || !slices.Contains(s.rules.about().Channels, channel) {
		return errors.New("there is no such app, or no such channel")
	}
	a.Drafts[channel] = r.PostForm.Get("version")
	return nil
}

// answer answers what is asked about an offer.
func (s desk) answer(r *http.Request) error {
	o := s.find(r.PostForm.Get("offer"))
	if o == nil || !o.Asked {
		return errors.New("nothing is asked about it")
	}
	o.Answered = r.PostForm.Get("encryption")
	return nil
}

// review is the word of a person who has looked at it.
func (s desk) review(r *http.Request) error {
	o := s.find(r.PostForm.Get("offer"))
	if o == nil || o.State != outletapi.InReview {
		return errors.New("it is not looked at")
	}
	if r.PostForm.Get("word") == "accept" {
		s.accept(o)
		return nil
	}
	for line := range strings.Lines(r.PostForm.Get("reasons")) {
		if line = strings.TrimSpace(line); line != "" {
			o.Reasons = append(o.Reasons, line)
		}
	}
	if len(o.Reasons) == 0 {
		return errors.New("whoever refuses it has to say why")
	}
	s.to(o, outletapi.Refused)
	return nil
}

// setFaults switches faults on, and off.
func (s desk) setFaults(r *http.Request) error {
	number := func(key string) int {
		n, _ := strconv.Atoi(r.PostForm.Get(key)) // what is none is 0
		return min(max(n, 0), 100)
	}
	s.faults = Faults{Errors: number("errors"), Busy: number("busy"), Cut: number("cut"), Late: number("late"),
		LateBy: 5 * time.Second, Lie: r.PostForm.Get("lie"), News: r.PostForm.Get("news")}
	return nil
}

// InReview is what a person is to look at next.
func (s *Shop) InReview() (id string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.kept.Offers {
		if o.State == outletapi.InReview {
			return o.ID, nil
		}
	}
	return "", errors.New("nothing is to be looked at")
}
