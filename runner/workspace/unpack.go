package workspace

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/core/quantity"
)

const (
	// MostTaken bounds what is taken out at a time, in bytes.
	MostTaken = 10 << 30
	mostFiles = 1_000_000
)

// Unpack puts what Send has packed into somebody's own folder, and lists the files. Nothing that is there is replaced.
// The repository's own folder is left out, since git would do what stands in it, and so are links that lead elsewhere.
func Unpack(dir string, packed io.Reader) (files []string, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	unpacked, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return nil, err
	}
	defer unpacked.Close()
	left := &io.LimitedReader{R: unpacked, N: MostTaken}
	for tr := tar.NewReader(left); ; {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return files, nil
		}
		if left.N <= 0 || len(files) >= mostFiles {
			return files, fmt.Errorf("it is more than %s, or than %d files", quantity.Bytes(MostTaken), mostFiles)
		}
		if err != nil {
			return files, err
		}
		name := path.Clean(h.Name)
		switch {
		case !filepath.IsLocal(name):
			return files, fmt.Errorf("what was taken out holds %q, which is no name below a folder", h.Name)
		case name == ".git" || strings.HasPrefix(name, ".git/"):
			continue
		case h.Typeflag == tar.TypeSymlink && (path.IsAbs(h.Linkname) ||
			!filepath.IsLocal(path.Join(path.Dir(name), h.Linkname))):
			continue
		}
		if _, err := root.Lstat(name); err == nil && h.Typeflag != tar.TypeDir {
			return files, fmt.Errorf("%s: %w", name, fs.ErrExist)
		}
		if err := unpackOne(root, nil, tr, h, name); err != nil {
			return files, fmt.Errorf("%s: %w", name, err)
		}
		if h.Typeflag != tar.TypeDir {
			files = append(files, name)
		}
	}
}
