package outlet

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
)

// held reads a package, and fails at its end when it is not what it was when it was kept. sent is told how many bytes
// went by.
func (p Package) held(in io.Reader, sent func(int64)) io.Reader {
	return &heldReader{in: in, p: p, sum: sha256.New(), sent: sent}
}

type heldReader struct {
	in   io.Reader
	p    Package
	sum  hash.Hash
	n    int64
	sent func(int64)
}

// Read implements io.Reader.
func (h *heldReader) Read(b []byte) (int, error) {
	n, err := h.in.Read(b)
	h.sum.Write(b[:n])
	h.n += int64(n)
	if n > 0 {
		h.sent(h.n)
	}
	if err == io.EOF && (h.n != h.p.Size || hex.EncodeToString(h.sum.Sum(nil)) != h.p.SHA256) {
		err = fmt.Errorf("%s is not what it was when it was kept", h.p.File)
	}
	return n, err
}

// counter tells how many bytes were read through it.
type counter struct {
	n    int64
	tell func(int64)
}

// Write implements io.Writer.
func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	c.tell(c.n)
	return len(b), nil
}
