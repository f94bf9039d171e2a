package httpapi

import (
	"errors"
	"net/http"
	"net/http/cgi"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"

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
		repo, err := sv.s.Repository(r.Context(), name)
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
		env := append(source.Environment(map[string]string{"http.receivepack": "false", "uploadpack.allowAnySHA1InWant": "true"}),
			"GIT_PROJECT_ROOT="+repo.Dir, "GIT_HTTP_EXPORT_ALL=1")
		h := cgi.Handler{Path: backend, Root: "/git/" + name, Dir: "/", Env: env}
		r.Header.Del("Authorization")
		h.ServeHTTP(w, r)
	}
	r.Get("/git/{project}/info/refs", serve)
	r.Post("/git/{project}/git-upload-pack", serve)
}
