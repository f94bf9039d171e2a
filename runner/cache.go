package runner

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"sort"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/quantity"
)

// cacheState is what has come of one cache so far.
type cacheState struct {
	*definition.Cache
	key imprint.CacheKey
	use api.CacheUse
}

func (j *job) cacheUses() []api.CacheUse {
	uses := []api.CacheUse{}
	for _, c := range j.caches {
		uses = append(uses, c.use)
	}
	return uses
}

// restoreCaches puts back what fits the files each cache follows. A cache is a help and no condition: when one
// cannot be had, the log says why and the job goes on without.
func (j *job) restoreCaches(ctx context.Context) {
	names := make([]string, 0, len(j.work.Job.Cache))
	for name := range j.work.Job.Cache {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		c := &cacheState{Cache: j.work.Job.Cache[name], use: api.CacheUse{Name: name}}
		j.caches = append(j.caches, c)
		followed, _, err := imprint.Files(j.root.FS(), c.Follows)
		if err != nil {
			c.use.Note = err.Error()
			j.say(outside, "cache %s: not used: %v", name, err)
			continue
		}
		c.key = imprint.Key(name, c.Paths, platform(), followed)
		c.use.Key = string(c.key)
		began := time.Now()
		size, err := j.restore(ctx, c)
		c.use.TookMs, c.use.Size = time.Since(began).Milliseconds(), size
		switch {
		case client.IsStatus(err, http.StatusNotFound):
			among := ""
			if j.work.CachesApart {
				among = " among runs with the same protected secrets"
			}
			j.say(outside, "cache %s: miss%s (%s); it will be saved when the job passes", name, among, c.key.Short())
		case err != nil:
			c.use.Note = err.Error()
			j.say(outside, "cache %s: not restored: %v", name, err)
			j.clearPaths(c.Paths)
		default:
			c.use.Hit = true
			j.say(outside, "cache %s: hit (%s), %s in %s", name, c.key.Short(), quantity.Bytes(size), milliseconds(time.Since(began)))
		}
	}
}

func (j *job) clearPaths(paths []string) {
	for _, p := range paths {
		_ = j.root.RemoveAll(path.Clean(p))
	}
}

func (j *job) restore(ctx context.Context, c *cacheState) (size int64, err error) {
	packed, size, err := j.post.Cache(ctx, j.work.Attempt, string(c.key))
	if err != nil {
		return 0, err
	}
	defer packed.Close()
	unpacked, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return size, err
	}
	defer unpacked.Close()
	j.clearPaths(c.Paths)
	return size, unpack(j.root, unpacked, c.Paths)
}

// saveCaches keeps what was missed. It is done after a passed job only, so that half a download is never kept.
func (j *job) saveCaches(ctx context.Context) {
	for _, c := range j.caches {
		if c.key == "" || c.use.Hit {
			continue
		}
		began := time.Now()
		size, err := j.save(ctx, c)
		if err != nil {
			c.use.Note = err.Error()
			j.say(outside, "cache %s: not saved: %v", c.Name, err)
			continue
		}
		c.use.Saved, c.use.Size, c.use.TookMs = true, size, time.Since(began).Milliseconds()
		j.say(outside, "cache %s: saved (%s), %s in %s", c.Name, c.key.Short(), quantity.Bytes(size), milliseconds(time.Since(began)))
	}
}

func (j *job) save(ctx context.Context, c *cacheState) (size int64, err error) {
	counted := &counter{}
	err = j.sendPacked(c.Paths, func(content io.Reader) error {
		return j.post.SaveCache(ctx, j.work.Attempt, c.Name, string(c.key), io.TeeReader(content, counted))
	})
	return counted.n, err
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}

// ErrNothingToSave says that none of a cache's paths is there.
var ErrNothingToSave = errors.New("none of its paths is there")

// pack writes paths of a workspace as a tar file (POSIX.1-2017, pax). Links are packed as links.
func pack(root *os.Root, w io.Writer, paths []string) error {
	tw := tar.NewWriter(w)
	entries := 0
	for _, p := range paths {
		err := fs.WalkDir(root.FS(), path.Clean(p), func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				if errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				return err
			}
			entries++
			return packOne(root, tw, name)
		})
		if err != nil {
			return err
		}
	}
	if entries == 0 {
		return ErrNothingToSave
	}
	return tw.Close()
}

func packOne(root *os.Root, tw *tar.Writer, name string) error {
	info, err := root.Lstat(name)
	if err != nil {
		return err
	}
	link := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if link, err = root.Readlink(name); err != nil {
			return err
		}
	case !info.IsDir() && !info.Mode().IsRegular():
		return nil // sockets and pipes are of no use later
	}
	header, err := tar.FileInfoHeader(info, link)
	if err != nil {
		return err
	}
	header.Name, header.Uid, header.Gid, header.Uname, header.Gname = name, 0, 0, "", ""
	if err := tw.WriteHeader(header); err != nil || !info.Mode().IsRegular() {
		return err
	}
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.CopyN(tw, f, header.Size)
	return err
}

// unpack writes a tar file's entries into a workspace; entries outside the paths are refused.
func unpack(root *os.Root, r io.Reader, paths []string) error {
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		name := path.Clean(h.Name)
		if !below(name, paths) || name == ".git" || strings.HasPrefix(name, ".git/") {
			return fmt.Errorf("the saved copy holds %q, which is not below the cache's paths", h.Name)
		}
		if err := unpackOne(root, tr, h, name); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
}

func below(name string, paths []string) bool {
	for _, p := range paths {
		p = path.Clean(p)
		if name == p || p == "." && fs.ValidPath(name) || strings.HasPrefix(name, p+"/") {
			return true
		}
	}
	return false
}

func unpackOne(root *os.Root, tr *tar.Reader, h *tar.Header, name string) error {
	mode := fs.FileMode(h.Mode) & 0o777
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		if err := root.MkdirAll(name, 0o755); err != nil {
			return err
		}
		return root.Chmod(name, mode|0o700)
	case tar.TypeSymlink:
		return root.Symlink(h.Linkname, name)
	case tar.TypeReg:
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err // what stands there may be of the repository; a folder stays
		}
		f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o200)
		if err != nil {
			return err
		}
		if _, err := io.Copy(f, tr); err != nil {
			f.Close()
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
		if err := root.Chmod(name, mode); err != nil {
			return err
		}
		return root.Chtimes(name, h.ModTime, h.ModTime)
	}
	return fmt.Errorf("an entry of kind %q", h.Typeflag)
}
