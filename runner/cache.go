package runner

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
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
		use := c.use
		use.Note = j.hide.String(use.Note)
		uses = append(uses, use)
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
		var size int64
		err = j.insist(ctx, "restoring cache "+name, func() (err error) {
			size, err = j.restore(ctx, c)
			return err
		})
		c.use.TookMs, c.use.Size = time.Since(began).Milliseconds(), size
		switch {
		case errors.Is(err, client.ErrNotFound):
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
			j.say(outside, "cache %s: hit (%s), %s in %s", name, c.key.Short(), quantity.Bytes(size),
				milliseconds(time.Since(began)))
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
	return size, unpack(j.root, j.account, unpacked, c.Paths)
}

// saveCaches keeps what was missed. It is done after a passed job only, so that half a download is never kept.
func (j *job) saveCaches(ctx context.Context) {
	for _, c := range j.caches {
		if c.key == "" || c.use.Hit {
			continue
		}
		began := time.Now()
		var size int64
		err := j.insist(ctx, "saving cache "+c.Name, func() (err error) {
			size, err = j.save(ctx, c)
			return err
		})
		if err != nil {
			c.use.Note = err.Error()
			j.say(outside, "cache %s: not saved: %v", c.Name, err)
			continue
		}
		c.use.Saved, c.use.Size, c.use.TookMs = true, size, time.Since(began).Milliseconds()
		j.say(outside, "cache %s: saved (%s), %s in %s", c.Name, c.key.Short(), quantity.Bytes(size),
			milliseconds(time.Since(began)))
	}
}

func (j *job) save(ctx context.Context, c *cacheState) (size int64, err error) {
	counted := &counter{}
	err = j.sendPacked(ctx, bounded{"cache", j.limits.Cache}, c.Paths, func(content io.Reader) error {
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

// pack writes paths of a workspace as a tar file (POSIX.1-2017, pax), as long as ctx lasts and the files' bytes fit the
// limit. Links are packed as links.
func pack(ctx context.Context, root *os.Root, w io.Writer, most bounded, paths []string) error {
	tw := tar.NewWriter(w)
	entries, total := 0, int64(0)
	for _, p := range paths {
		err := fs.WalkDir(root.FS(), path.Clean(p), func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				if errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				return err
			}
			entries++
			size, err := packOne(ctx, root, tw, name, most.less(total))
			total += size
			return err
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

func packOne(ctx context.Context, root *os.Root, tw *tar.Writer, name string, most bounded) (size int64, err error) {
	if ctx.Err() != nil {
		return 0, context.Cause(ctx)
	}
	info, err := root.Lstat(name)
	if err != nil {
		return 0, err
	}
	link := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if link, err = root.Readlink(name); err != nil {
			return 0, err
		}
	case !info.IsDir() && !info.Mode().IsRegular():
		return 0, nil // sockets and pipes are of no use later
	case info.Mode().IsRegular():
		if err := most.check(name, info); err != nil {
			return 0, err
		}
	}
	header, err := tar.FileInfoHeader(info, link)
	if err != nil {
		return 0, err
	}
	header.Name, header.Uid, header.Gid, header.Uname, header.Gname = name, 0, 0, "", ""
	if err := tw.WriteHeader(header); err != nil || !info.Mode().IsRegular() {
		return 0, err
	}
	f, err := root.Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return io.CopyN(tw, withContext{ctx, f}, header.Size)
}

// unpack writes a tar file's entries into a workspace, as files of an account; entries outside the paths are refused.
func unpack(root *os.Root, as *account, r io.Reader, paths []string) error {
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
		if err := unpackOne(root, as, tr, h, name); err != nil {
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

func unpackOne(root *os.Root, as *account, tr *tar.Reader, h *tar.Header, name string) error {
	mode := fs.FileMode(h.Mode) & 0o777
	if err := makeFolder(root, as, path.Dir(name)); err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		if err := makeFolder(root, as, name); err != nil {
			return err
		}
		return root.Chmod(name, mode|0o700)
	case tar.TypeSymlink:
		if err := root.Symlink(h.Linkname, name); err != nil {
			return err
		}
		return as.takeIn(root, name)
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
		if err := errors.Join(as.takeIn(root, name), root.Chmod(name, mode)); err != nil {
			return err
		}
		return root.Chtimes(name, h.ModTime, h.ModTime)
	}
	return fmt.Errorf("an entry of kind %q", h.Typeflag)
}

// makeFolder makes a folder of a workspace, and those it is in, as an account's. What is there already stays as it is.
func makeFolder(root *os.Root, as *account, name string) error {
	if info, err := root.Lstat(name); err == nil && info.IsDir() || name == "." {
		return nil
	}
	if err := makeFolder(root, as, path.Dir(name)); err != nil {
		return err
	}
	if err := root.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return as.takeIn(root, name)
}
