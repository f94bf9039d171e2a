package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
)

// FindCache finds the saved copy of a cache that fits, else the nearest; ErrNotFound when there is none.
func (c *Client) FindCache(ctx context.Context, attempt record.AttemptID, in api.CacheWanted) (out api.CacheFound,
	err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/caches", in, &out)
	return out, err
}

// worthWaiting tells that an error may pass, and soon. A disk that is full holds up what must be kept, and not a copy,
// which is a help only.
func worthWaiting(err error) bool {
	return Passing(err) && !IsStatus(err, http.StatusInsufficientStorage)
}

// bytesOf asks for something that is no JSON, and reads it up to most bytes; into room, when that is enough.
func (c *Client) bytesOf(ctx context.Context, method, path string, body []byte, most int64, room []byte) (text []byte,
	err error) {
	err = c.retryWhile(ctx, worthWaiting, func() error {
		var content io.Reader
		if body != nil {
			content = bytes.NewReader(body)
		}
		res, err := c.request(ctx, method, prefix+path, content, "application/octet-stream")
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.ContentLength > 0 && res.ContentLength <= most {
			text = slices.Grow(room[:0], int(res.ContentLength))[:res.ContentLength]
			_, err = io.ReadFull(res.Body, text)
			return err
		}
		if text, err = io.ReadAll(io.LimitReader(res.Body, most+1)); err == nil && int64(len(text)) > most {
			err = fmt.Errorf("%s %s answers more than %d bytes", method, path, most)
		}
		return err
	})
	return text, err
}

// Shelf is where saved copies are read from: for a running attempt, or for somebody's own machine.
type Shelf struct {
	c          *Client
	tree, pack string // formats of paths
}

// ShelfOf is that of a running attempt.
func (c *Client) ShelfOf(attempt record.AttemptID) *Shelf {
	return &Shelf{c, attemptPath(attempt) + "/trees/%d", attemptPath(attempt) + "/trees/%d/packs/%d?start=%d&n=%d"}
}

// ShelfFor is that of a project, for one's own machine.
func (c *Client) ShelfFor(project string) *Shelf {
	at := strings.ReplaceAll(projectPath(project), "%", "%%") + "/caches"
	return &Shelf{c, at + "/%d/tree", at + "/%d/packs/%d?start=%d&n=%d"}
}

// Tree reads the written tree of a saved copy.
func (s *Shelf) Tree(ctx context.Context, id record.CacheID) ([]byte, error) {
	return s.c.bytesOf(ctx, http.MethodGet, fmt.Sprintf(s.tree, id), nil, tree.MaxWritten, nil)
}

// PackPart reads n bytes of a pack that a saved copy needs, after its first start; into room, when that is enough.
func (s *Shelf) PackPart(ctx context.Context, id record.CacheID, pack tree.PackID, start, n int64, room []byte) (
	[]byte, error) {
	return s.c.bytesOf(ctx, http.MethodGet, fmt.Sprintf(s.pack, id, pack, start, n), nil, n, room)
}

// FindCacheFor finds, for somebody's own machine and a branch, the saved copy that fits, else the nearest; ErrNotFound
// when there is none.
func (c *Client) FindCacheFor(ctx context.Context, project, line string, in api.CacheWanted) (out api.CacheFound,
	err error) {
	q := url.Values{"line": {line}}
	err = c.call(ctx, http.MethodPost, projectPath(project)+"/caches/find?"+q.Encode(), in, &out)
	return out, err
}

// Known tells where pieces are that are stored already; zero places for those that are not.
func (c *Client) Known(ctx context.Context, attempt record.AttemptID, ids []chunk.ID) ([]tree.Place, error) {
	names := make([]byte, 0, len(ids)*len(chunk.ID{}))
	for _, id := range ids {
		names = append(names, id[:]...)
	}
	text, err := c.bytesOf(ctx, http.MethodPost, attemptPath(attempt)+"/pieces", names, int64(len(ids)*40)+1, nil)
	if err != nil {
		return nil, err
	}
	return tree.ReadPlaces(text)
}

// AddPack stores a pack.
func (c *Client) AddPack(ctx context.Context, attempt record.AttemptID, pack []byte) (tree.PackID, error) {
	text, err := c.bytesOf(ctx, http.MethodPost, attemptPath(attempt)+"/packs", pack, 1<<10, nil)
	if err != nil {
		return 0, err
	}
	var out api.PackStored
	return out.Pack, json.Unmarshal(text, &out)
}

// SaveTree keeps a written tree as the copy of a cache.
func (c *Client) SaveTree(ctx context.Context, attempt record.AttemptID, in api.CacheSaved, written []byte) (
	out api.CacheFound, err error) {
	about, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	text, err := c.bytesOf(ctx, http.MethodPut, attemptPath(attempt)+"/trees", append(append(about, '\n'), written...),
		1<<20, nil)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(text, &out)
}

// ReportDamaged tells that a pack is not what it should be.
func (c *Client) ReportDamaged(ctx context.Context, attempt record.AttemptID, id record.CacheID,
	in api.PackDamaged) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("%s/trees/%d/damaged", attemptPath(attempt), id), in, nil)
}

// CacheFilter says which saved copies to list.
type CacheFilter struct {
	Name, Line string // "" any
	After      string // SavedCaches.Next of the page before
	Limit      int
}

// Caches lists saved copies of a project's caches, newest first.
func (c *Client) Caches(ctx context.Context, project string, f CacheFilter) (api.SavedCaches, error) {
	return get[api.SavedCaches](ctx, c, projectPath(project)+"/caches"+
		query{"name": f.Name, "line": f.Line, "after": f.After}.listed(f.Limit))
}

// DropCache gives up a saved copy.
func (c *Client) DropCache(ctx context.Context, project string, id record.CacheID) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("%s/caches/%d", projectPath(project), id), nil, nil)
}
