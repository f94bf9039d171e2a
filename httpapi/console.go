package httpapi

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	files "gentlepiston.example/piston/console"
)

// console serves the console's files from the binary, packed as the browser likes. Files under assets/ carry the
// hash of their content in their names, so a browser never has to ask for them again.
func console(r chi.Router) {
	dist, err := fs.Sub(files.Files, "dist")
	if err != nil {
		panic(err) // the folder is part of the binary
	}
	r.Get("/*", func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "api/") {
			writeProblem(w, huma.Error404NotFound("the interface has nothing at "+r.URL.Path))
			return
		}
		if !strings.HasPrefix(name, "assets/") && !isFile(dist, name) { // a page's address may have a dot, as a version has
			if !navigates(r) {
				writeProblem(w, huma.Error404NotFound("there is nothing at "+r.URL.Path+"; the interface is below "+Prefix))
				return
			}
			name = "index.html" // a page of the console: its own router knows which
		}
		h := w.Header()
		h.Set("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		if kind := mime.TypeByExtension(path.Ext(name)); kind != "" {
			h.Set("Content-Type", kind)
		}
		h.Set("Vary", "Accept-Encoding")
		for _, packed := range []struct{ encoding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}, {"", ""}} {
			if packed.encoding != "" && !strings.Contains(r.Header.Get("Accept-Encoding"), packed.encoding) {
				continue
			}
			text, err := fs.ReadFile(dist, name+packed.suffix)
			if err != nil {
				continue
			}
			if packed.encoding != "" {
				h.Set("Content-Encoding", packed.encoding)
			}
			h.Set("Content-Length", strconv.Itoa(len(text)))
			_, _ = w.Write(text)
			return
		}
		h.Del("Cache-Control")
		http.Error(w, "There is no such page. If this is the console's first page, the binary was built without it: run "+
			"make build.", http.StatusNotFound)
	})
}

// isFile tells what the console has as a file, packed or not.
func isFile(dist fs.FS, name string) bool {
	for _, suffix := range []string{"", ".br", ".gz"} {
		if info, err := fs.Stat(dist, name+suffix); err == nil && !info.IsDir() {
			return true
		}
	}
	return false
}

// navigates tells a browser that opens a page from a program that asks for what is not there, and must not take a page
// for an answer (Fetch metadata; older browsers say what they accept).
func navigates(r *http.Request) bool {
	if r.URL.Path == "/" {
		return true
	}
	if mode := r.Header.Get("Sec-Fetch-Mode"); mode != "" {
		return mode == "navigate"
	}
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}
