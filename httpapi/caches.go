package httpapi

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/caches"
	"gentlepiston.example/piston/service/ground"
)

// caches registers what people see of saved copies, and how runners restore and save them.
func (sv *server) caches(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/projects/{project}/caches", "list-caches",
		"List saved copies of caches, newest first, and what came of them", func(ctx context.Context, in *struct {
			ProjectPath
			Name  string         `query:"name" maxLength:"63" doc:"only of this cache"`
			Line  string         `query:"line" maxLength:"500" doc:"only of this branch or proposal"`
			After record.CacheID `query:"after" minimum:"0" doc:"next of the page before"`
			Limit int            `query:"limit" minimum:"1" maximum:"1000" default:"50"`
		}) (api.SavedCaches, error) {
			return sv.s.Caches.Saved(ctx, in.Project, caches.Filter{Name: in.Name, Line: in.Line, After: in.After,
				Limit: in.Limit})
		})
	command(a, http.MethodDelete, "/projects/{project}/caches/{id}", "drop-cache", "Give up a saved copy of a cache",
		func(ctx context.Context, in *struct {
			ProjectPath
			ID record.CacheID `path:"id" minimum:"1"`
		}) error {
			return sv.s.Caches.Drop(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/caches", "find-cache",
		"Find the saved copy of a cache that fits, else the nearest", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.CacheWanted
		}) (api.CacheFound, error) {
			return sv.s.Caches.Find(ctx, in.Attempt, in.Body)
		})
	command(a, http.MethodPost, "/runner/attempts/{attempt}/trees/{id}/damaged", "report-damaged",
		"A pack is not what it should be", func(ctx context.Context, in *struct {
			AttemptPath
			ID   record.CacheID `path:"id" minimum:"1"`
			Body api.PackDamaged
		}) error {
			return sv.s.Caches.Damaged(ctx, in.Attempt, in.ID, in.Body)
		})
	operation(a, http.MethodPost, "/projects/{project}/caches/find", "find-cache-for-trial",
		"Find, for a trial on one's own machine, the saved copy of a cache that fits, else the nearest",
		func(ctx context.Context, in *struct {
			ProjectPath
			Line string `query:"line" maxLength:"500" doc:"the branch that is tried"`
			Body api.CacheWanted
		}) (api.CacheFound, error) {
			return sv.s.Caches.FindFor(ctx, in.Project, in.Line, in.Body)
		})
	t := treeServer{sv}
	r.Get(Prefix+"/projects/{project}/caches/{id}/tree", t.lendTree)
	r.Get(Prefix+"/projects/{project}/caches/{id}/packs/{pack}", t.lendPack)
	r.Get(Prefix+"/runner/attempts/{attempt}/trees/{id}", t.sendTree)
	r.Get(Prefix+"/runner/attempts/{attempt}/trees/{id}/packs/{pack}", t.sendPack)
	r.Post(Prefix+"/runner/attempts/{attempt}/pieces", t.knownPieces)
	r.Post(Prefix+"/runner/attempts/{attempt}/packs", t.takePack)
	r.Put(Prefix+"/runner/attempts/{attempt}/trees", t.takeTree)
}

// treeServer serves what of saved copies is no JSON.
type treeServer struct{ *server }

// bytesType is the media type of what is of a form of our own.
const bytesType = "application/octet-stream"

func send(w http.ResponseWriter, r *http.Request, content io.ReadCloser, err error) {
	if err != nil {
		fail(w, r, err)
		return
	}
	defer content.Close()
	w.Header().Set("Content-Type", bytesType)
	if _, err := io.CopyBuffer(w, content, make([]byte, 256<<10)); err != nil {
		panic(http.ErrAbortHandler)
	}
}

func (t treeServer) sendTree(w http.ResponseWriter, r *http.Request) {
	content, err := t.s.Caches.Tree(r.Context(), attemptOf(r), number[record.CacheID](r, "id"))
	send(w, r, content, err)
}

func (t treeServer) lendTree(w http.ResponseWriter, r *http.Request) {
	content, err := t.s.Caches.TreeFor(r.Context(), chi.URLParam(r, "project"), number[record.CacheID](r, "id"))
	send(w, r, content, err)
}

func (t treeServer) sendPack(w http.ResponseWriter, r *http.Request) {
	t.sendPart(w, r, func(id record.CacheID, pack tree.PackID, start, n int64) (io.ReadCloser, error) {
		return t.s.Caches.Pack(r.Context(), attemptOf(r), id, pack, start, n)
	})
}

func (t treeServer) lendPack(w http.ResponseWriter, r *http.Request) {
	t.sendPart(w, r, func(id record.CacheID, pack tree.PackID, start, n int64) (io.ReadCloser, error) {
		return t.s.Caches.PackFor(r.Context(), chi.URLParam(r, "project"), id, pack, start, n)
	})
}

// sendPart sends the part of a pack that the query asks for.
func (t treeServer) sendPart(w http.ResponseWriter, r *http.Request,
	open func(id record.CacheID, pack tree.PackID, start, n int64) (io.ReadCloser, error)) {
	start, err1 := strconv.ParseInt(r.URL.Query().Get("start"), 10, 64)
	n, err2 := strconv.ParseInt(r.URL.Query().Get("n"), 10, 64)
	if err1 != nil || err2 != nil || start < 0 || n < 1 || start > tree.MaxPack || n > tree.MaxPack-start {
		fail(w, r, fmt.Errorf("start and n are %w: give which bytes of the pack are wanted", ground.ErrInvalid))
		return
	}
	content, err := open(number[record.CacheID](r, "id"), number[tree.PackID](r, "pack"), start, n)
	if err == nil {
		w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	}
	send(w, r, content, err)
}

// maxAsked is how many pieces may be asked for in one call.
const maxAsked = 1 << 16

func (t treeServer) knownPieces(w http.ResponseWriter, r *http.Request) {
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxAsked*int64(len(chunk.ID{}))))
	if err != nil || len(text)%len(chunk.ID{}) != 0 {
		fail(w, r, fmt.Errorf("the list of pieces is %w: give up to %d names of %d bytes", ground.ErrInvalid, maxAsked,
			len(chunk.ID{})))
		return
	}
	ids := make([]chunk.ID, len(text)/len(chunk.ID{}))
	for i := range ids {
		copy(ids[i][:], text[i*len(chunk.ID{}):])
	}
	places, err := t.s.Caches.Known(r.Context(), attemptOf(r), ids)
	if err != nil {
		fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", bytesType)
	_, _ = w.Write(tree.AppendPlaces(nil, places))
}

func (t treeServer) takePack(w http.ResponseWriter, r *http.Request) {
	id, err := t.s.Caches.AddPack(r.Context(), attemptOf(r), r.Body)
	if err != nil {
		fail(w, r, err)
		return
	}
	writeJSON(w, http.StatusOK, "application/json", api.PackStored{Pack: id})
}

// maxAbout bounds what is told of a tree, in bytes.
const maxAbout = 4 << 20

func (t treeServer) takeTree(w http.ResponseWriter, r *http.Request) {
	body := bufio.NewReaderSize(r.Body, 1<<16)
	about, err := readLine(body, maxAbout)
	var in api.CacheSaved
	if err == nil {
		err = json.Unmarshal(about, &in)
	}
	if err != nil {
		fail(w, r, fmt.Errorf("what the tree is of is %w: %w", ground.ErrInvalid, err))
		return
	}
	found, err := t.s.Caches.Save(r.Context(), attemptOf(r), in, body)
	if err != nil {
		fail(w, r, err)
		return
	}
	writeJSON(w, http.StatusOK, "application/json", found)
}

// readLine reads a line of so many bytes at most.
func readLine(r *bufio.Reader, most int) (line []byte, err error) {
	for {
		part, err := r.ReadSlice('\n')
		line = append(line, part...)
		if err == nil {
			return line, nil
		}
		if err != bufio.ErrBufferFull || len(line) > most {
			return nil, fmt.Errorf("its first line does not end: %w", err)
		}
	}
}
