package workspace

import (
	"archive/tar"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/runner/process"
)

// Send packs paths while they are being sent, when they hold no secret and fit the limit.
func (w *Workspace) Send(ctx context.Context, most Bound, paths []string, send func(io.Reader) error) error {
	if err := w.holdNone(ctx, most, paths); err != nil {
		return err
	}
	reader, writer := io.Pipe()
	packed := make(chan error, 1)
	go func() {
		packer, err := zstd.NewWriter(writer, zstd.WithEncoderConcurrency(1))
		if err == nil {
			err = errors.Join(pack(ctx, w.root, packer, most, paths), packer.Close())
		}
		writer.CloseWithError(err)
		packed <- err
	}()
	err := send(reader)
	reader.CloseWithError(cmp.Or(err, io.ErrClosedPipe))
	if packErr := <-packed; packErr != nil && !errors.Is(packErr, io.ErrClosedPipe) &&
		(err == nil || !errors.Is(packErr, err)) {
		return packErr // why there was nothing to send
	}
	return err
}

// Take unpacks what Send has packed, of this workspace or another; entries outside the paths are refused.
func (w *Workspace) Take(packed io.Reader, paths []string) error {
	unpacked, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer unpacked.Close()
	return unpack(w.root, w.as, unpacked, paths)
}

// Clear removes what is at paths.
func (w *Workspace) Clear(paths []string) {
	for _, p := range paths {
		_ = w.root.RemoveAll(path.Clean(p))
	}
}

// nothingThere says that none of the paths to pack is there.
type nothingThere struct{}

func (nothingThere) Error() string { return "none of its paths is there" }

// Final tells that no second try mends it.
func (nothingThere) Final() {}

// pack writes paths of a workspace as a tar file (POSIX.1-2017, pax), as long as ctx lasts and the files' bytes fit the
// limit. Links are packed as links.
func pack(ctx context.Context, root *os.Root, w io.Writer, most Bound, paths []string) error {
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
			size, err := packOne(ctx, root, tw, name, most.Less(total))
			total += size
			return err
		})
		if err != nil {
			return err
		}
	}
	if entries == 0 {
		return nothingThere{}
	}
	return tw.Close()
}

func packOne(ctx context.Context, root *os.Root, tw *tar.Writer, name string, most Bound) (size int64, err error) {
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
		if err := most.Check(name, info); err != nil {
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
func unpack(root *os.Root, as *process.Account, r io.Reader, paths []string) error {
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

func unpackOne(root *os.Root, as *process.Account, tr *tar.Reader, h *tar.Header, name string) error {
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
		return as.TakeIn(root, name)
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
		if err := errors.Join(as.TakeIn(root, name), root.Chmod(name, mode)); err != nil {
			return err
		}
		return root.Chtimes(name, h.ModTime, h.ModTime)
	}
	return fmt.Errorf("an entry of kind %q", h.Typeflag)
}

// makeFolder makes a folder of a workspace, and those it is in, as an account's. What is there already stays as it is.
func makeFolder(root *os.Root, as *process.Account, name string) error {
	if info, err := root.Lstat(name); err == nil && info.IsDir() || name == "." {
		return nil
	}
	if err := makeFolder(root, as, path.Dir(name)); err != nil {
		return err
	}
	if err := root.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return as.TakeIn(root, name)
}
