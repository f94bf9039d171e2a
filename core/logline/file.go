package logline

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sort"

	"github.com/klauspost/compress/zstd"
)

// A finished log is a sequence of Zstandard frames (RFC 8878), each holding whole lines, and a skippable frame
// (section 3.1.2) at the end that tells the first line and the offset of each, so that any part of a long log is
// read without the rest. Any Zstandard program unpacks the file to the written form of its lines.
const (
	frameText     = 128 << 10 // bytes of text that end a frame
	skippable     = 0x184D2A50
	entrySize     = 16
	indexMark     = 0x676f6c70 // "plog"
	skippableHead = 8
	tailSize      = 8
)

// FileWriter writes a finished log.
type FileWriter struct {
	w       io.Writer
	enc     *zstd.Encoder
	index   []byte
	offset  uint64
	pending []byte
	first   int64
	next    int64
}

// NewFileWriter writes to w; lines are numbered from 1.
func NewFileWriter(w io.Writer) (*FileWriter, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10))
	if err != nil {
		return nil, err
	}
	return &FileWriter{w: w, enc: enc, first: 1, next: 1}, nil
}

// Lines is how many lines have been appended.
func (f *FileWriter) Lines() int64 { return f.next - 1 }

// Append adds the next line; its own number must follow the last one's.
func (f *FileWriter) Append(l Line) error {
	if l.N != f.next {
		return fmt.Errorf("log line %d does not follow line %d", l.N, f.next-1)
	}
	f.pending = Append(f.pending, l)
	f.next++
	if len(f.pending) >= frameText {
		return f.frame()
	}
	return nil
}

func (f *FileWriter) frame() error {
	packed := f.enc.EncodeAll(f.pending, nil)
	if _, err := f.w.Write(packed); err != nil {
		return err
	}
	f.index = binary.LittleEndian.AppendUint64(f.index, uint64(f.first))
	f.index = binary.LittleEndian.AppendUint64(f.index, f.offset)
	f.offset += uint64(len(packed))
	f.pending, f.first = f.pending[:0], f.next
	return nil
}

// Close writes what is pending and the index. It does not close the underlying writer.
func (f *FileWriter) Close() error {
	if len(f.pending) > 0 {
		if err := f.frame(); err != nil {
			return err
		}
	}
	f.enc.Close()
	tail := binary.LittleEndian.AppendUint32(nil, skippable)
	tail = binary.LittleEndian.AppendUint32(tail, uint32(len(f.index)+tailSize))
	tail = append(tail, f.index...)
	tail = binary.LittleEndian.AppendUint32(tail, uint32(len(f.index)/entrySize))
	tail = binary.LittleEndian.AppendUint32(tail, indexMark)
	_, err := f.w.Write(tail)
	return err
}

// ErrNotALog says that a file has no log index at its end.
var ErrNotALog = errors.New("this is no finished log, or it is cut off")

// ReadFile returns up to limit lines from line number from on (from 1) of a finished log of size bytes.
func ReadFile(r io.ReaderAt, size int64, from int64, limit int) (lines []Line, err error) {
	err = frames(r, size, from, func(first int64, text []byte) (bool, error) {
		part, err := Decode(first, text)
		if err != nil {
			return false, err
		}
		for _, l := range part {
			if l.N >= from && len(lines) < limit {
				lines = append(lines, l)
			}
		}
		return len(lines) < limit, nil
	})
	if err != nil {
		return nil, err
	}
	return lines, nil
}

// frames unpacks a finished log frame by frame, from the one that holds a line on, until do wants no more. text holds
// until do returns.
func frames(r io.ReaderAt, size, from int64, do func(first int64, text []byte) (more bool, err error)) error {
	index, end, err := readIndex(r, size)
	if err != nil || len(index) == 0 {
		return err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return err
	}
	defer dec.Close()
	at := sort.Search(len(index), func(i int) bool { return index[i].first > from }) - 1
	var text []byte
	for i := max(at, 0); i < len(index); i++ {
		stop := end
		if i+1 < len(index) {
			stop = index[i+1].offset
		}
		packed := make([]byte, stop-index[i].offset)
		if _, err := r.ReadAt(packed, index[i].offset); err != nil {
			return err
		}
		if text, err = dec.DecodeAll(packed, text[:0]); err != nil {
			return fmt.Errorf("unpacking the log from line %d: %w", index[i].first, err)
		}
		if more, err := do(index[i].first, text); err != nil || !more {
			return err
		}
	}
	return nil
}

type frameEntry struct{ first, offset int64 }

func readIndex(r io.ReaderAt, size int64) (index []frameEntry, end int64, err error) {
	tail := make([]byte, tailSize)
	if size < skippableHead+tailSize {
		return nil, 0, ErrNotALog
	}
	if _, err := r.ReadAt(tail, size-tailSize); err != nil {
		return nil, 0, err
	}
	count := int64(binary.LittleEndian.Uint32(tail))
	end = size - tailSize - count*entrySize - skippableHead
	if binary.LittleEndian.Uint32(tail[4:]) != indexMark || end < 0 {
		return nil, 0, ErrNotALog
	}
	raw := make([]byte, count*entrySize)
	if _, err := r.ReadAt(raw, end+skippableHead); err != nil {
		return nil, 0, err
	}
	for ; len(raw) > 0; raw = raw[entrySize:] {
		e := frameEntry{int64(binary.LittleEndian.Uint64(raw)), int64(binary.LittleEndian.Uint64(raw[8:]))}
		if e.offset < 0 || e.offset > end || (len(index) > 0 && e.offset <= index[len(index)-1].offset) {
			return nil, 0, ErrNotALog
		}
		index = append(index, e)
	}
	return index, end, nil
}
