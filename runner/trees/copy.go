package trees

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/tree"
)

// Copy makes the files of what was found below a root; the builder's tree is of it. Blocks are shared where the file
// system can do so.
func (b *Builder) Copy(ctx context.Context, root *os.Root, found []Found) error {
	from, err := newOpener(root)
	if err != nil {
		return err
	}
	defer from.close()
	if err := b.folders(); err != nil {
		return err
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, part := range parts(found) {
		work.Go(func() error {
			for i := range part {
				if part[i].Kind != tree.File {
					continue
				}
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err := b.copyFile(from, &part[i]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	return b.dressFolders()
}

// parts are what was found, in parts of some bytes or files each.
func parts(found []Found) (list [][]Found) {
	begin, size := 0, int64(0)
	for i := range found {
		if size += found[i].Size; size >= partBytes || i-begin >= partFiles {
			list, begin, size = append(list, found[begin:i+1]), i+1, 0
		}
	}
	return append(list, found[begin:])
}

func (b *Builder) copyFile(opener *opener, f *Found) error {
	from, err := opener.open(f.Path, false)
	if err != nil {
		return err
	}
	defer from.Close()
	if info, err := from.Stat(); err != nil || !info.Mode().IsRegular() {
		return errors.Join(err, &os.PathError{Op: "copy", Path: f.Path, Err: errors.New("it is no file any more")})
	}
	to, err := os.OpenFile(b.at(f.Path), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if !cloneFile(to, from) {
		err = copyData(to, from, f)
	}
	if err == nil {
		err = b.dress(to, &f.Entry, f.Size)
	}
	return errors.Join(err, to.Close())
}

// copyData copies a file's bytes, but not its holes (lseek(2)).
func copyData(to, from *os.File, f *Found) error {
	if !f.holes {
		_, err := io.Copy(to, from)
		return err
	}
	for at := int64(0); at < f.Size; {
		data, err := from.Seek(at, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) {
			return nil // nothing but a hole is left
		}
		if err != nil {
			return err
		}
		if at, err = from.Seek(data, unix.SEEK_HOLE); err != nil {
			return err
		}
		_, seekTo := to.Seek(data, io.SeekStart)
		_, seekFrom := from.Seek(data, io.SeekStart)
		if err := errors.Join(seekTo, seekFrom); err != nil {
			return err
		}
		if _, err := io.CopyN(to, from, at-data); err != nil {
			return err
		}
	}
	return nil
}
