package archive

import (
	"compress/flate"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"sync"
)

// Raw reads an entry's bytes as they lie in the archive.
func (a *Archive) Raw(e *Entry) io.Reader { return io.NewSectionReader(a.r, e.Data, e.Compressed) }

// Content reads an entry. It gives an *Error for one that is longer or shorter than it says, or has another sum.
func (a *Archive) Content(e *Entry) io.ReadCloser {
	c := &content{entry: e, sum: crc32.NewIEEE(), left: e.Size}
	if e.Method == Stored {
		c.in = io.NopCloser(a.Raw(e))
	} else {
		c.in = inflate(a.Raw(e))
	}
	return c
}

// inflaters are used again: one has buffers larger than most entries.
var inflaters sync.Pool

// inflater gives itself back when it is closed.
type inflater struct{ io.ReadCloser }

func inflate(r io.Reader) io.ReadCloser {
	if old, is := inflaters.Get().(io.ReadCloser); is && old.(flate.Resetter).Reset(r, nil) == nil {
		return &inflater{old}
	}
	return &inflater{flate.NewReader(r)}
}

// Read implements io.Reader.
func (i *inflater) Read(b []byte) (int, error) {
	if i.ReadCloser == nil {
		return 0, io.ErrClosedPipe
	}
	return i.ReadCloser.Read(b)
}

// Close implements io.Closer.
func (i *inflater) Close() error {
	if i.ReadCloser == nil {
		return nil
	}
	err := i.ReadCloser.Close()
	inflaters.Put(i.ReadCloser)
	i.ReadCloser = nil
	return err
}

// Read gives the whole of an entry that has at most so many bytes.
func (a *Archive) Read(e *Entry, most int64) ([]byte, error) {
	if e.Size > most {
		return nil, &Error{Entry: e.Name, What: fmt.Sprintf("it has %d bytes, at most %d are read", e.Size, most)}
	}
	r := a.Content(e)
	defer r.Close()
	b := make([]byte, e.Size)
	if _, err := io.ReadFull(r, b); err != nil {
		return nil, err
	}
	_, err := r.Read(make([]byte, 1))
	if err == io.EOF {
		err = nil
	}
	return b, err
}

// content is one entry that is being read.
type content struct {
	entry *Entry
	in    io.ReadCloser
	sum   hash.Hash32
	left  int64
	err   error
}

func (c *content) Read(b []byte) (int, error) {
	if c.err != nil {
		return 0, c.err
	}
	n, err := c.in.Read(b)
	c.sum.Write(b[:n])
	c.left -= int64(n)
	switch {
	case c.left < 0:
		err = &Error{Entry: c.entry.Name, What: "it is longer than it says"}
	case err == io.EOF && c.left > 0:
		err = &Error{Entry: c.entry.Name, What: "it is shorter than it says"}
	case err == io.EOF && c.sum.Sum32() != c.entry.CRC:
		err = &Error{Entry: c.entry.Name, What: "its bytes are not those it was made of (CRC-32)"}
	case err != nil && err != io.EOF:
		err = &Error{Entry: c.entry.Name, What: err.Error()}
	}
	c.err = err
	return n, err
}

func (c *content) Close() error { return c.in.Close() }
