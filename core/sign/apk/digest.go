package apk

import (
	"context"
	"crypto/sha256"
	"io"
	"runtime"
	"sync"
)

// chunk is the size of the pieces that are summed by themselves.
const chunk = 1 << 20

// section is a part of a package that is cut into pieces by itself.
type section struct {
	r    io.ReaderAt
	size int64
}

// contentDigest is the digest of "APK Signature Scheme v2", section "Integrity-protected contents": of the digests of
// all pieces of all sections.
func contentDigest(ctx context.Context, sections []section) ([]byte, error) {
	type piece struct {
		section
		at    int64
		index int
	}
	var pieces []piece
	for _, s := range sections {
		for at := int64(0); at < s.size; at += chunk {
			pieces = append(pieces, piece{s, at, len(pieces)})
		}
	}
	sums := make([]byte, len(pieces)*sha256.Size)
	err := each(ctx, len(pieces), chunk, func(i int, buffer []byte) error {
		p := pieces[i]
		n := min(chunk, p.size-p.at)
		if _, err := p.r.ReadAt(buffer[:n], p.at); err != nil && err != io.EOF {
			return err
		}
		h := sha256.New()
		h.Write(append([]byte{0xa5}, number(uint32(n))...))
		h.Write(buffer[:n])
		h.Sum(sums[i*sha256.Size : i*sha256.Size : (i+1)*sha256.Size])
		return nil
	})
	h := sha256.New()
	h.Write(append([]byte{0x5a}, number(uint32(len(pieces)))...))
	h.Write(sums)
	return h.Sum(nil), err
}

// each does something for each of n, on all processors; who does has a buffer of its own.
func each(ctx context.Context, n, room int, do func(i int, buffer []byte) error) error {
	workers := runtime.GOMAXPROCS(0)
	errs, next, left := make([]error, workers), make(chan int), sync.WaitGroup{}
	for w := range workers {
		left.Go(func() {
			buffer := make([]byte, room)
			for i := range next {
				if errs[w] == nil {
					errs[w] = do(i, buffer)
				}
			}
		})
	}
	for i := range n {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	left.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return context.Cause(ctx)
}
