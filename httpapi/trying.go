package httpapi

import (
	_ "embed"
	"encoding/base64"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"golang.org/x/text/language"
	"howett.net/plist"
	"rsc.io/qr"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	room "gentlepiston.example/piston/service/testers"
)

//go:embed trying.html
var tryingText string

var tryingPage = template.Must(template.New("trying").Funcs(template.FuncMap{
	"size": quantity.Bytes,
	"day":  func(t time.Time) string { return t.UTC().Format("2 January 2006") },
	"base": func(b []byte) string { return base64.StdEncoding.EncodeToString(b) },
	// Of what is ours, and not of a scheme that templates know.
	"install": func(manifest string) template.URL {
		return template.URL("itms-services://?action=download-manifest&url=" + url.QueryEscape(manifest))
	},
}).Parse(tryingText))

// shownTo is a page of somebody who tries releases, with what is to be said first.
type shownTo struct {
	api.Trying
	At     string // the page's path
	Said   string // what came of what was sent
	Wrong  bool   // whether that is an error
	Secure bool   // whether iOS can install from here
	Stop   bool   // whether one is asked about the end of the mails
}

// trying registers the pages of those who try releases: they need no account, only their link. Nothing on them is run
// by the browser, and nothing is fetched from elsewhere.
func trying(sv *server, r chi.Router) {
	r = r.With(unseen)
	const at = "/t/{link}"
	r.Get(at, func(w http.ResponseWriter, r *http.Request) { show(sv, w, r, http.StatusOK, shownTo{}) })
	r.Get(at+"/stop", func(w http.ResponseWriter, r *http.Request) { show(sv, w, r, http.StatusOK, shownTo{Stop: true}) })
	r.Post(at+"/stop", func(w http.ResponseWriter, r *http.Request) { quiet(sv, w, r, true) })
	r.Post(at+"/resume", func(w http.ResponseWriter, r *http.Request) { quiet(sv, w, r, false) })
	r.Post(at+"/devices", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		err := sv.s.Testers.AddDevice(r.Context(), link(r), r.PostFormValue("device"), r.PostFormValue("name"))
		show(sv, w, r, 0, saying(err, "The device is noted. It can be used once a package is built that lists it."))
	})
	r.Get(at+"/code.png", func(w http.ResponseWriter, r *http.Request) { code(sv, w, r) })
	r.Post(at+"/{trial}/words", func(w http.ResponseWriter, r *http.Request) { takeWord(sv, w, r) })
	r.Get(at+"/{trial}/{artifact}/manifest.plist", func(w http.ResponseWriter, r *http.Request) { manifest(sv, w, r) })
	r.Get(at+"/{trial}/{artifact}/{file}", func(w http.ResponseWriter, r *http.Request) { fetch(sv, w, r) })
}

func link(r *http.Request) string { return chi.URLParam(r, "link") }

// unseen keeps a page whose address is a secret from being told elsewhere, or kept.
func unseen(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set("X-Robots-Tag", "noindex")
		w.Header().Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

func saying(err error, done string) shownTo {
	if err != nil {
		return shownTo{Said: err.Error(), Wrong: true}
	}
	return shownTo{Said: done}
}

// show shows the page of a link. status 0 is that of what is said.
func show(sv *server, w http.ResponseWriter, r *http.Request, status int, s shownTo) {
	page, err := sv.s.Testers.Page(r.Context(), link(r))
	if err != nil {
		lost(w, r, err)
		return
	}
	choose(page.Releases, r.Header.Get("Accept-Language"))
	first(page.Releases, r.UserAgent())
	s.Trying, s.At, s.Secure = page, room.Path(link(r)), strings.HasPrefix(page.Link, "https://")
	if status == 0 {
		status = http.StatusOK
		if s.Wrong {
			status = http.StatusUnprocessableEntity
		}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = tryingPage.ExecuteTemplate(w, "trying", s) // who reads it is gone
}

// lost says to a person, who is no program, that there is nothing.
func lost(w http.ResponseWriter, r *http.Request, err error) {
	if !errors.Is(err, ground.ErrNotFound) {
		fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusNotFound)
	_ = tryingPage.ExecuteTemplate(w, "lost", err.Error())
}

// choose leaves the notes of each release in the language that is best understood (RFC 9110, section 12.5.4).
func choose(list []api.TryingRelease, accepts string) {
	wanted, _, _ := language.ParseAcceptLanguage(accepts) // what is none wants the first
	for i, r := range list {
		if len(r.Notes) < 2 {
			continue
		}
		var tags []language.Tag
		for _, n := range r.Notes {
			tags = append(tags, language.Make(n.Language))
		}
		_, best, _ := language.NewMatcher(tags).Match(wanted...)
		list[i].Notes = r.Notes[best : best+1]
	}
}

// first puts what the device can install before the others.
func first(list []api.TryingRelease, agent string) {
	ios := strings.Contains(agent, "iPhone") || strings.Contains(agent, "iPad")
	for _, r := range list {
		slices.SortStableFunc(r.Files, func(a, b api.TryingFile) int {
			rank := func(f api.TryingFile) int {
				if (f.Kind == "ipa") == ios {
					return 0
				}
				return 1
			}
			return rank(a) - rank(b)
		})
	}
}

// quiet ends the mails, also when a mail program asks for it (RFC 8058), or has them come again.
func quiet(sv *server, w http.ResponseWriter, r *http.Request, quiet bool) {
	said := "You get mail again when there is something new."
	if quiet {
		said = "You get no more mail. This page stays, and shows what is new."
	}
	err := sv.s.Testers.Quiet(r.Context(), link(r), quiet)
	if err != nil {
		lost(w, r, err)
		return
	}
	show(sv, w, r, 0, saying(nil, said))
}

// code is the page's address as a QR code (ISO/IEC 18004), for another device.
func code(sv *server, w http.ResponseWriter, r *http.Request) {
	page, err := sv.s.Testers.Page(r.Context(), link(r))
	if err != nil {
		lost(w, r, err)
		return
	}
	c, err := qr.Encode(page.Link, qr.M)
	if err != nil {
		fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	_, _ = w.Write(c.PNG())
}

// takeWord takes what is said of a release, and perhaps a picture.
func takeWord(sv *server, w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, room.MaxPicture+64<<10)
	if err := r.ParseMultipartForm(1 << 20); err != nil {
		show(sv, w, r, 0, shownTo{Wrong: true,
			Said: "That was too much at once, or only a part of it came: send a picture of up to 10 MB."})
		return
	}
	defer func() { _ = r.MultipartForm.RemoveAll() }()
	var picture []byte
	file, _, err := r.FormFile("picture")
	if err == nil {
		picture, err = io.ReadAll(file)
		_ = file.Close()
	}
	if err != nil && !errors.Is(err, http.ErrMissingFile) {
		fail(w, r, err)
		return
	}
	if len(picture) == 0 {
		picture = nil // a form without a picture sends an empty one
	}
	err = sv.s.Testers.Say(r.Context(), link(r), number[record.TrialID](r, "trial"), r.FormValue("text"), picture)
	if err != nil && !errors.Is(err, ground.ErrInvalid) {
		lost(w, r, err)
		return
	}
	show(sv, w, r, 0, saying(err, "Thank you. It stands with the release now."))
}

// fetch gives a package. A download that was cut goes on where it was (RFC 9110, section 14).
func fetch(sv *server, w http.ResponseWriter, r *http.Request) {
	from := r.Header.Get("Range")
	name := chi.URLParam(r, "file")
	if plain, err := url.PathUnescape(name); err == nil && r.URL.RawPath != "" {
		name = plain // as it is when the address is written in another way than Go writes it
	}
	f, content, err := sv.s.Testers.File(r.Context(), link(r), number[record.TrialID](r, "trial"),
		number[record.ArtifactID](r, "artifact"), name, from == "" || strings.HasPrefix(from, "bytes=0-"))
	if err != nil {
		lost(w, r, err)
		return
	}
	kind := "application/octet-stream"
	if f.Kind == "apk" {
		kind = "application/vnd.android.package-archive"
	}
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("ETag", fmt.Sprintf("%q", f.SHA256))
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.File}))
	http.ServeContent(w, r, "", time.Time{}, content)
}

// manifest is what iOS wants to know before it installs a package from a page: a property list that says where it is.
func manifest(sv *server, w http.ResponseWriter, r *http.Request) {
	id, artifact := number[record.TrialID](r, "trial"), number[record.ArtifactID](r, "artifact")
	_, release, err := sv.s.Testers.Release(r.Context(), link(r), id)
	i := slices.IndexFunc(release.Files, func(f api.TryingFile) bool { return f.Artifact == artifact && f.Kind == "ipa" })
	if err == nil && i < 0 {
		err = ground.Saying(ground.ErrNotFound, "There is no such file.")
	}
	if err != nil {
		lost(w, r, err)
		return
	}
	f := release.Files[i]
	at := fmt.Sprintf("%s%s/%d/%d/%s", sv.s.Letters.Link(""), room.Path(link(r)), id, artifact, url.PathEscape(f.File))
	title := f.Label
	if title == "" {
		title = f.ID
	}
	type pairs = map[string]any
	text, err := plist.MarshalIndent(pairs{"items": []pairs{{
		"assets":   []pairs{{"kind": "software-package", "url": at}},
		"metadata": pairs{"bundle-identifier": f.ID, "bundle-version": f.Version, "kind": "software", "title": title},
	}}}, plist.XMLFormat, "  ")
	if err != nil {
		fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/xml")
	_, _ = w.Write(text)
}

// fileOf is a file of a release as the page shows it.
type fileOf struct {
	shownTo
	Trial record.TrialID
	File  api.TryingFile
}

// Of joins a file of a release with the page that it stands on; templates call it.
func (s shownTo) Of(r api.TryingRelease, f api.TryingFile) fileOf { return fileOf{s, r.Trial, f} }
