package trees

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// FirstDifference is the first byte, counted from 0, in which two files of a name differ; -1 when they are the same.
func FirstDifference(a, b *os.Root, name string) (int64, error) {
	x, err := a.Open(name)
	if err != nil {
		return 0, err
	}
	defer x.Close()
	y, err := b.Open(name)
	if err != nil {
		return 0, err
	}
	defer y.Close()
	p, q := make([]byte, 64<<10), make([]byte, 64<<10)
	for at := int64(0); ; {
		n, errX := io.ReadFull(x, p)
		m, errY := io.ReadFull(y, q)
		if !bytes.Equal(p[:n], q[:m]) {
			i := 0
			for i < n && i < m && p[i] == q[i] {
				i++
			}
			return at + int64(i), nil
		}
		at += int64(n)
		if errX != nil || errY != nil {
			if ended(errX) && ended(errY) {
				return -1, nil
			}
			return 0, errors.Join(errX, errY)
		}
	}
}

func ended(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
