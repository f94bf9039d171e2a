package httpapi

import (
	"errors"
	"io"
	"net/http"
	"net/http/cgi"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/source"
)

// httpBackend is git's own program that serves repositories (git-http-backend(1)).
var httpBackend = sync.OnceValues(func() (string, error) {
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return "", errors.New("git is not installed; it is needed to hand sources to runners")
	}
	return filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"), nil
})

// git serves the source of every project to runners, to read only, so that a runner needs no way to the remotes.
func (sv *server) git(r chi.Router) {
	serve := func(w http.ResponseWriter, r *http.Request) {
		name := chi.URLParam(r, "project")
		repo, err := sv.s.Projects.Repository(r.Context(), name)
		if err != nil {
			fail(w, r, err)
			return
		}
		backend, err := httpBackend()
		if err != nil {
			fail(w, r, err)
			return
		}
		// Any commit that is there may be asked for by its id: a force push must not make a queued run impossible.
		env := append(source.Environment(map[string]string{"http.receivepack": "false",
			"uploadpack.allowAnySHA1InWant": "true"}),
			"GIT_PROJECT_ROOT="+repo.Dir, "GIT_HTTP_EXPORT_ALL=1")
		h := cgi.Handler{Path: backend, Root: "/git/" + name, Dir: "/", Env: env}
		r.Header.Del("Authorization")
		h.ServeHTTP(w, r)
	}
	r.Get("/git/{project}/large/{id}", sv.large)
	r.Get("/git/{project}/pack/{commit}", sv.pack)
	r.Get("/git/{project}/info/refs", serve)
	r.Post("/git/{project}/git-upload-pack", serve)
}

// mostHad is how many commits a runner may say to have.
const mostHad = 64

// pack serves one commit with all its files, without what was before it: most jobs need no more, and one answer takes a
// fraction of what git's own conversation does. Of what the query's commits have, the runner needs nothing.
func (sv *server) pack(w http.ResponseWriter, r *http.Request) {
	repo, err := sv.s.Projects.Repository(r.Context(), chi.URLParam(r, "project"))
	if err != nil {
		fail(w, r, err)
		return
	}
	had := r.URL.Query()["had"]
	content, err := repo.Pack(r.Context(), chi.URLParam(r, "commit"), had[:min(len(had), mostHad)]...)
	if errors.Is(err, source.ErrNoObject) {
		fail(w, r, huma.Error404NotFound(err.Error()))
		return
	}
	if err != nil {
		fail(w, r, err)
		return
	}
	defer content.Close()
	w.Header().Set("Content-Type", "application/x-git-packed-objects")
	if _, err := io.Copy(w, content); err != nil {
		panic(http.ErrAbortHandler) // so that the runner sees that it is not all
	}
}

// large serves a file that a project's repository keeps beside itself, as the query's size and the id in the path say.
func (sv *server) large(w http.ResponseWriter, r *http.Request) {
	size, err := strconv.ParseInt(r.URL.Query().Get("size"), 10, 64)
	id := chi.URLParam(r, "id")
	if err != nil || size < 0 || !pointer.IsID(id) {
		fail(w, r, huma.Error400BadRequest("a large file is named by its SHA-256 and its size in bytes"))
		return
	}
	content, err := sv.s.Projects.Large(r.Context(), chi.URLParam(r, "project"), pointer.Pointer{ID: id, Size: size})
	if err != nil {
		fail(w, r, err)
		return
	}
	defer content.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = io.Copy(w, io.LimitReader(content, size+1)) // the runner sees whether it is all
}
