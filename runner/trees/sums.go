package trees

import (
	"context"
	"encoding/hex"
	"io"
	"os"
	"runtime"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"gentlepiston.example/piston/core/tree"
)

// sum is the first half of the name that the content of a file has as a piece (chunk.Sum), in hexadecimal.
func sum(id []byte) string { return hex.EncodeToString(id[:16]) }

// Sums tell what files and links below a root are, by their paths: content, and whether they can be run. A file that is
// known to be one piece is not read.
func Sums(ctx context.Context, root *os.Root, found []Found) (map[string]string, error) {
	from, err := newOpener(root)
	if err != nil {
		return nil, err
	}
	defer from.close()
	sums := make(map[string]string, len(found))
	var mu sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, part := range parts(found) {
		work.Go(func() error {
			hash, buf := blake3.New(), make([]byte, 128<<10)
			for i := range part {
				f := &part[i]
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				text := "link " + f.Target
				if f.Kind == tree.File || f.Kind == tree.Twin {
					if f.Kind == tree.File && len(f.Pieces) == 1 && !f.Pieces[0].Hole {
						text = sum(f.Pieces[0].ID[:])
					} else {
						hash.Reset()
						if err := read(from, f.Path, hash, buf); err != nil {
							return err
						}
						text = sum(hash.Sum(nil))
					}
					if f.Mode&0o111 != 0 {
						text += " x"
					}
				}
				mu.Lock()
				sums[f.Path] = text
				mu.Unlock()
			}
			return nil
		})
	}
	return sums, work.Wait()
}

func read(from *opener, path string, to io.Writer, buf []byte) error {
	f, err := from.open(path, false)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.CopyBuffer(to, struct{ io.Reader }{f}, buf)
	return err
}
