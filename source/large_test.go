package source

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/pointer"
)

const picture = "the bytes of a picture\n"

func pointerTo(text string) pointer.Pointer {
	sum := sha256.Sum256([]byte(text))
	return pointer.Pointer{ID: hex.EncodeToString(sum[:]), Size: int64(len(text))}
}

// largeRemote stands for a remote that serves large files; answer is what it says of one.
func largeRemote(t *testing.T, answer func(w http.ResponseWriter, at pointer.Pointer, address string)) string {
	mux := http.NewServeMux()
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	mux.HandleFunc("POST /app.git/info/lfs/objects/batch", func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			Operation string
			Objects   []struct {
				OID  string
				Size int64
			}
		}
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&in))
		assert.Equal(t, "download", in.Operation)
		answer(w, pointer.Pointer{ID: in.Objects[0].OID, Size: in.Objects[0].Size}, s.URL)
	})
	mux.HandleFunc("GET /objects/", func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "open", r.Header.Get("X-Pass"))
		_, _ = io.WriteString(w, picture)
	})
	mux.HandleFunc("GET /away/", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://127.0.0.2:"+strings.Split(s.URL, ":")[2]+"/objects/x", http.StatusFound)
	})
	return s.URL + "/app"
}

func says(href string) func(http.ResponseWriter, pointer.Pointer, string) {
	return func(w http.ResponseWriter, at pointer.Pointer, address string) {
		fmt.Fprintf(w, `{"objects":[{"oid":%q,"size":%d,"actions":{"download":{"href":%q,"header":{"X-Pass":"open"}}}}]}`,
			at.ID, at.Size, strings.Replace(href, "HERE", address, 1))
	}
}

func TestALargeFileOfARemote(t *testing.T) {
	at := pointerTo(picture)
	content, err := Repo{}.Large(t.Context(), largeRemote(t, says("HERE/objects/1")), at)
	require.NoError(t, err)
	text, err := io.ReadAll(content)
	require.NoError(t, err)
	content.Close()
	assert.Equal(t, picture, string(text))

	for name, c := range map[string]struct {
		answer func(http.ResponseWriter, pointer.Pointer, string)
		gone   bool
		says   string
	}{
		"not there": {func(w http.ResponseWriter, _ pointer.Pointer, _ string) {
			_, _ = io.WriteString(w, `{"objects":[{"error":{"code":404,"message":"no such thing"}}]}`)
		}, true, "404, no such thing"},
		"no such service": {func(w http.ResponseWriter, _ pointer.Pointer, _ string) { http.NotFound(w, nil) }, true, "404 Not Found"},
		"broken":          {func(w http.ResponseWriter, _ pointer.Pointer, _ string) { http.Error(w, "", 500) }, false, "500"},
		"no objects":      {func(w http.ResponseWriter, _ pointer.Pointer, _ string) { _, _ = io.WriteString(w, `{}`) }, true, "something else"},
		"not JSON": {func(w http.ResponseWriter, _ pointer.Pointer, _ string) {
			_, _ = io.WriteString(w, strings.Repeat("[", 1<<21))
		}, true, "something else"},
		"no address":   {says(""), true, "names no address"},
		"a file":       {says("file:///etc/passwd"), true, "names no address"},
		"inside":       {says("http://127.0.0.2:9/x"), false, "which is inside"},
		"the metadata": {says("http://169.254.169.254/latest"), false, "which is inside"},
		"led inside":   {says("HERE/away/1"), false, "which is inside"},
	} {
		_, err := Repo{}.Large(t.Context(), largeRemote(t, c.answer), at)
		require.Error(t, err, name)
		assert.ErrorContains(t, err, c.says, name)
		if c.gone {
			assert.ErrorIs(t, err, ErrNoObject, name)
		} else {
			assert.NotErrorIs(t, err, ErrNoObject, name)
		}
	}
}

func TestALargeFileOfAFolder(t *testing.T) {
	dir := t.TempDir()
	r := Repo{dir}
	at := pointerTo(picture)
	_, err := r.Large(t.Context(), "/srv/app.git", at)
	assert.ErrorIs(t, err, ErrNoObject)
	place := filepath.Join(dir, "lfs", "objects", at.ID[:2], at.ID[2:4])
	require.NoError(t, os.MkdirAll(place, 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(place, at.ID)))
	_, err = r.Large(t.Context(), "/srv/app.git", at)
	assert.Error(t, err, "no link leads out of the repository")
	require.NoError(t, os.Remove(filepath.Join(place, at.ID)))
	require.NoError(t, os.WriteFile(filepath.Join(place, at.ID), []byte(picture), 0o644))
	content, err := r.Large(t.Context(), "/srv/app.git", at)
	require.NoError(t, err)
	content.Close()
	_, err = r.Large(t.Context(), "/srv/app.git", pointer.Pointer{ID: at.ID, Size: 1})
	assert.ErrorIs(t, err, ErrNoObject, "of another size it is another file")
	_, err = r.Large(t.Context(), "/srv/app.git", pointer.Pointer{ID: "../../../etc", Size: 1})
	assert.ErrorIs(t, err, ErrNoObject)
}
