// Package blob keeps artifacts, caches and finished logs: bytes under a name, written once.
package blob

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"gocloud.dev/blob"
	"gocloud.dev/blob/fileblob"
	"gocloud.dev/gcerrors"
)

// ErrNotFound says that there is nothing under a name.
var ErrNotFound = errors.New("no such blob")

// Blobs is a place for blobs.
type Blobs struct{ bucket *blob.Bucket }

// OpenFolder keeps blobs as files of a folder, which is made if need be.
func OpenFolder(dir string) (*Blobs, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("folder for blobs: %w", err)
	}
	bucket, err := fileblob.OpenBucket(dir,
		&fileblob.Options{NoTempDir: true, Metadata: fileblob.MetadataDontWrite, DirFileMode: 0o700})
	if err != nil {
		return nil, fmt.Errorf("folder for blobs: %w", err)
	}
	return &Blobs{bucket}, nil
}

// Close releases the place.
func (b *Blobs) Close() error { return b.bucket.Close() }

// Written tells what was written.
type Written struct {
	Size   int64
	SHA256 string // lower-case hexadecimal
}

// Put writes everything r gives under a name. When r or ctx fails, nothing is there under that name.
func (b *Blobs) Put(ctx context.Context, name string, r io.Reader) (Written, error) {
	hash := sha256.New()
	var size int64
	err := b.Write(ctx, name, func(w io.Writer) (err error) {
		size, err = io.Copy(io.MultiWriter(w, hash), r)
		return err
	})
	return Written{size, hex.EncodeToString(hash.Sum(nil))}, err
}

// Write lets fill write a blob. When fill or ctx fails, nothing is there under that name.
func (b *Blobs) Write(ctx context.Context, name string, fill func(io.Writer) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	w, err := b.bucket.NewWriter(ctx, name, nil)
	if err != nil {
		return err
	}
	if err := fill(w); err != nil {
		cancel() // a cancelled writer drops what it has
		_ = w.Close()
		return err
	}
	return w.Close()
}

// Open reads a blob from its beginning.
func (b *Blobs) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	r, err := b.bucket.NewReader(ctx, name, nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	return r, err
}

// Range reads n bytes of a blob after its first off.
func (b *Blobs) Range(ctx context.Context, name string, off, n int64) (io.ReadCloser, error) {
	r, err := b.bucket.NewRangeReader(ctx, name, off, n, nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	return r, err
}

// Delete removes a blob; one that is not there is no error.
func (b *Blobs) Delete(ctx context.Context, name string) error {
	err := b.bucket.Delete(ctx, name)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil
	}
	return err
}

// Entry is a blob that is there.
type Entry struct {
	Name    string
	Size    int64
	Written time.Time
}

// Each calls take for every blob.
func (b *Blobs) Each(ctx context.Context, take func(Entry) error) error {
	list := b.bucket.List(nil)
	for {
		o, err := list.Next(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if o.IsDir {
			continue
		}
		if err := take(Entry{o.Key, o.Size, o.ModTime}); err != nil {
			return err
		}
	}
}

// At reads any part of a blob.
func (b *Blobs) At(ctx context.Context, name string) io.ReaderAt {
	return &readerAt{ctx, b, name}
}

type readerAt struct {
	ctx   context.Context
	blobs *Blobs
	name  string
}

// ReadAt implements io.ReaderAt.
func (r *readerAt) ReadAt(p []byte, off int64) (int, error) {
	part, err := r.blobs.Range(r.ctx, r.name, off, int64(len(p)))
	if err != nil {
		return 0, err
	}
	defer part.Close()
	return io.ReadFull(part, p)
}
