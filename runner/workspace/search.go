package workspace

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/trees"
)

// zips are the endings of files that are ZIP archives (APPNOTE 6.3.10): packages of apps, and archives by that name.
var zips = []string{".apk", ".aab", ".ipa", ".aar", ".jar", ".zip"}

// What an archive may unpack to before it is taken for one that is only made to take up space. Nothing is unpacked
// to disk; this bounds time.
const (
	maxUnpacked = 16 << 30
	freeRatio   = 256 << 20 // up to here any ratio will do
	maxRatio    = 300
	maxNested   = 2 // archives in archives that are looked into
)

// Inspect refuses an artifact that holds secrets of the job, in its name, its bytes, or the files packed in it.
func (w *Workspace) Inspect(ctx context.Context, f artifact.File, mayHold []string) error {
	if w.Hiding.nothing() {
		return nil
	}
	found := map[string]bool{}
	if err := w.search(strings.NewReader(f.Path), found); err != nil {
		return err
	}
	file, err := w.root.Open(f.Path)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := w.search(withContext{ctx, file}, found); err != nil {
		return err
	}
	if slices.Contains(zips, strings.ToLower(path.Ext(f.Path))) {
		budget := &unpacking{packed: f.Size}
		if err := w.searchZip(ctx, file, f.Size, budget, 1, found); err != nil {
			return err
		}
	}
	var held []string
	for name := range found {
		if !slices.Contains(mayHold, name) {
			held = append(held, name)
		}
	}
	if len(held) == 0 {
		return nil
	}
	slices.Sort(held)
	return &HoldsSecrets{held}
}

// holdNone refuses paths of the workspace that hold secrets of the job. It reads them before anything is sent.
func (w *Workspace) holdNone(ctx context.Context, most Bound, paths []string) error {
	if w.Hiding.nothing() {
		return nil
	}
	search := w.Hiding.finder.Load().Search()
	if err := pack(ctx, w.root, search, most, paths); err != nil {
		return err
	}
	if held := search.Names(); len(held) > 0 {
		return &HoldsSecrets{held}
	}
	return nil
}

// InFiles gives what looks for the job's secrets in a file that is to be stored, by its path; nil when there is
// nothing to look for.
func (h *Hiding) InFiles() func(path string) trees.Look {
	if h.nothing() {
		return nil
	}
	finder := h.finder.Load()
	return func(path string) trees.Look {
		l := &look{finder.Search()}
		_, _ = l.Write([]byte(path + "\n"))
		return l
	}
}

type look struct{ *mask.Search }

// End implements trees.Look.
func (l *look) End() error {
	if held := l.Names(); len(held) > 0 {
		return &HoldsSecrets{held}
	}
	return nil
}

func (w *Workspace) search(r io.Reader, found map[string]bool) error {
	names, err := w.Hiding.finder.Load().Find(r)
	for _, name := range names {
		found[name] = true
	}
	return err
}

// searchZip looks into the files of an archive. What is no archive after all was looked at already.
func (w *Workspace) searchZip(ctx context.Context, file io.ReaderAt, size int64, budget *unpacking, depth int,
	found map[string]bool) error {
	archive, err := zip.NewReader(file, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil
	}
	for _, entry := range archive.File {
		if err := w.search(strings.NewReader(entry.Name), found); err != nil {
			return err
		}
		if entry.Method == zip.Store && !slices.Contains(zips, strings.ToLower(path.Ext(entry.Name))) {
			continue // its bytes stand in the archive as they are
		}
		if err := w.searchEntry(ctx, entry, budget, depth, found); err != nil {
			return fmt.Errorf("%s in it: %w", fmt.Sprintf("%q", entry.Name), err)
		}
	}
	return nil
}

func (w *Workspace) searchEntry(ctx context.Context, entry *zip.File, budget *unpacking, depth int,
	found map[string]bool) error {
	content, err := entry.Open()
	if err != nil {
		return nil // packed in a way that is not known here
	}
	defer content.Close()
	counted := budget.count(withContext{ctx, content})
	if depth > maxNested || !slices.Contains(zips, strings.ToLower(path.Ext(entry.Name))) {
		err = w.search(counted, found)
		if errors.Is(err, zip.ErrChecksum) || errors.Is(err, zip.ErrFormat) {
			return nil
		}
		return err
	}
	inner, err := os.CreateTemp(w.folder, "inner-*")
	if err != nil {
		return err
	}
	defer os.Remove(inner.Name())
	defer inner.Close()
	size, err := io.Copy(inner, counted)
	if err != nil {
		return err
	}
	return w.searchZip(ctx, inner, size, budget, depth+1, found)
}

// unpacking counts what an archive unpacks to.
type unpacking struct{ packed, unpacked int64 }

func (u *unpacking) count(r io.Reader) io.Reader { return &unpackingReader{u, r} }

type unpackingReader struct {
	u *unpacking
	r io.Reader
}

func (r *unpackingReader) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.u.unpacked += int64(n)
	if r.u.unpacked > maxUnpacked || r.u.unpacked > freeRatio && r.u.unpacked > maxRatio*r.u.packed {
		return n, fmt.Errorf("%s unpack to more than %s: an archive like that is only made to fill a disk, and is not kept",
			quantity.Bytes(r.u.packed), quantity.Bytes(r.u.unpacked))
	}
	return n, err
}

// HoldsSecrets is why something may not leave the job. A pointer, since whoever sends a body compares its error.
type HoldsSecrets struct{ names []string }

func (e *HoldsSecrets) Error() string {
	return fmt.Sprintf("it holds the secret %s: keep that out of it; an artifact that is meant to hold it says so by "+
		"may_hold", strings.Join(e.names, ", "))
}

// Final tells that no second try mends it.
func (*HoldsSecrets) Final() {}
