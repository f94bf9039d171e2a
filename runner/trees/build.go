package trees

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/process"
)

// Fetch reads a part of a pack, by how many bytes are before it and how many it has; into room, when that is enough.
type Fetch func(ctx context.Context, pack tree.PackID, start, n int64, room []byte) ([]byte, error)

// Damaged says that what is stored is not what it should be: a pack is missing, or what is in it is something else.
type Damaged struct {
	Pack tree.PackID
	Err  error
}

func (e *Damaged) Error() string { return fmt.Sprintf("pack %d is damaged: %v", e.Pack, e.Err) }
func (e *Damaged) Unwrap() error { return e.Err }

// Builder makes a tree's files below a folder. Nobody else is there meanwhile, nothing is where its roots are to
// be, and no link is on the way to them.
type Builder struct {
	Tree *tree.Tree
	Into string
	As   *process.Account      // whose the files are
	Told func(done, all int64) // how far it is, in bytes; nil: nobody asks

	mu   sync.Mutex
	done int64
}

// built notes that some bytes are there.
func (b *Builder) built(n, all int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.done += n; b.Told != nil {
		b.Told(b.done, all)
	}
}

// at is where an entry is on the disk.
func (b *Builder) at(path string) string { return filepath.Join(b.Into, path) }

// Pieces are fetched in parts of about so many bytes, as many at a time.
const (
	fetchBytes = 4 << 20
	fetchOnce  = 3
	fetchGap   = 128 << 10 // what is read for nothing rather than asked for in a further call
)

// use is a piece of a file that is in a block.
type use struct {
	entry int32
	from  uint32 // in the block
	len   uint32
	at    int64 // in the file
	id    *chunk.ID
}

// blockUses are the uses of a block.
type blockUses struct {
	pack tree.PackID
	tree.Block
	uses []use
}

// Build makes the files from pieces.
func (b *Builder) Build(ctx context.Context, fetch Fetch) error {
	if err := b.folders(); err != nil {
		return err
	}
	blocks := b.blocks()
	left := make([]atomic.Int32, len(b.Tree.Entries)) // pieces of each file that are not written yet
	for _, block := range blocks {
		for _, u := range block.uses {
			left[u.entry].Add(1)
		}
	}
	_, all := b.Tree.Files()
	work, parts := errgroup.WithContext(ctx)
	work.SetLimit(fetchOnce)
	for len(blocks) > 0 && parts.Err() == nil {
		n := together(blocks)
		some := blocks[:n]
		blocks = blocks[n:]
		work.Go(func() error {
			n, err := b.part(parts, fetch, some, left)
			b.built(n, all)
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	return b.finish()
}

// blocks are the blocks that files are in, in the order in which they are met.
func (b *Builder) blocks() (list []blockUses) {
	type key struct {
		pack  tree.PackID
		start uint32
	}
	numbers := map[key]int{}
	for i := range b.Tree.Entries {
		at := int64(0)
		for k := range b.Tree.Entries[i].Pieces {
			p := &b.Tree.Entries[i].Pieces[k]
			if !p.Hole {
				id := key{p.At.Pack, p.At.Block.Start}
				n, has := numbers[id]
				if !has {
					n = len(list)
					numbers[id] = n
					list = append(list, blockUses{pack: p.At.Pack, Block: p.At.Block})
				}
				list[n].uses = append(list[n].uses, use{int32(i), p.At.From, uint32(p.Len), at, &p.ID})
			}
			at += p.Len
		}
	}
	return list
}

// together tells how many of the first blocks are fetched in one call.
func together(blocks []blockUses) int {
	first := blocks[0]
	end := int64(first.Start) + int64(first.Packed)
	n := 1
	for ; n < len(blocks); n++ {
		b := blocks[n]
		if b.pack != first.pack || int64(b.Start) < end || int64(b.Start)-end > fetchGap ||
			int64(b.Start)+int64(b.Packed)-int64(first.Start) > fetchBytes {
			break
		}
		end = int64(b.Start) + int64(b.Packed)
	}
	return n
}

// rooms are lent to parts: memory that is fresh costs more than what is read into it.
var rooms = sync.Pool{New: func() any {
	room := make([]byte, 0, fetchBytes)
	return &room
}}

// part fetches some blocks and writes what is in them; it gives how many bytes.
func (b *Builder) part(ctx context.Context, fetch Fetch, blocks []blockUses, left []atomic.Int32) (n int64, err error) {
	first, last := blocks[0], blocks[len(blocks)-1]
	start := int64(first.Start)
	lent := rooms.Get().(*[]byte)
	defer rooms.Put(lent)
	packed, err := fetch(ctx, first.pack, start, int64(last.Start)+int64(last.Packed)-start, *lent)
	if err != nil {
		return n, err
	}
	*lent = packed
	u, err := tree.NewUnpacker()
	if err != nil {
		return n, err
	}
	defer u.Close()
	var raw []byte
	for _, block := range blocks {
		from := int64(block.Start) - start
		if raw, err = u.Block(packed[from:from+int64(block.Packed)], raw); err != nil {
			return n, &Damaged{first.pack, err}
		}
		for _, use := range block.uses {
			if int64(use.from)+int64(use.len) > int64(len(raw)) {
				return n, &Damaged{first.pack, errors.New("a block is too short")}
			}
			piece := raw[use.from : use.from+use.len]
			if chunk.Sum(piece) != *use.id {
				return n, &Damaged{first.pack, fmt.Errorf("piece %s holds something else", use.id.Short())}
			}
			if err := b.write(use, piece, left); err != nil {
				return n, err
			}
			n += int64(use.len)
		}
		if ctx.Err() != nil {
			return n, context.Cause(ctx)
		}
	}
	return n, nil
}

// write writes a piece of a file. Whoever writes the last one gives the file its length, mode and time.
func (b *Builder) write(u use, piece []byte, left []atomic.Int32) error {
	e := &b.Tree.Entries[u.entry]
	f, err := os.OpenFile(b.at(e.Path), os.O_WRONLY|os.O_CREATE|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(piece, u.at)
	if err == nil && left[u.entry].Add(-1) == 0 {
		err = b.dress(f, e, e.Size())
	}
	return errors.Join(err, f.Close())
}

// dress gives a file its length, and what it has beside its bytes.
func (b *Builder) dress(f *os.File, e *tree.Entry, size int64) error {
	if n := len(e.Pieces); n == 0 || e.Pieces[n-1].Hole {
		if err := f.Truncate(size); err != nil {
			return err
		}
	}
	return errors.Join(b.As.TakeOpen(f), f.Chmod(e.Mode), setTime(f.Name(), e.Time))
}

// setTime says when a file or folder was last changed, to the nanosecond (utimensat(2)).
func setTime(at string, ns int64) error {
	t := unix.NsecToTimespec(ns)
	return unix.UtimesNanoAt(unix.AT_FDCWD, at, []unix.Timespec{t, t}, unix.AT_SYMLINK_NOFOLLOW)
}

// folders makes the folders, open to us whatever they are to be in the end, and those that lead to the roots.
func (b *Builder) folders() error {
	for _, root := range b.Tree.Roots {
		if err := b.leadTo(filepath.Dir(root)); err != nil {
			return err
		}
	}
	for i := range b.Tree.Entries {
		if e := &b.Tree.Entries[i]; e.Kind == tree.Folder {
			if err := os.Mkdir(b.at(e.Path), 0o700); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *Builder) leadTo(dir string) error {
	if dir == "." {
		return nil
	}
	if err := b.leadTo(filepath.Dir(dir)); err != nil {
		return err
	}
	err := os.Mkdir(b.at(dir), 0o755)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return errors.Join(err, b.As.Take(b.at(dir)))
}

// finish makes what holds no piece, then gives folders their modes and times, the innermost first.
func (b *Builder) finish() error {
	for i := range b.Tree.Entries {
		if e := &b.Tree.Entries[i]; e.Kind == tree.File && unwritten(e) {
			if err := b.empty(e); err != nil {
				return err
			}
		}
	}
	return b.dressFolders()
}

// dressFolders makes the links, then gives folders their modes and times, the innermost first.
func (b *Builder) dressFolders() error {
	for i := range b.Tree.Entries {
		e := &b.Tree.Entries[i]
		at := b.at(e.Path)
		var err error
		switch e.Kind {
		case tree.Link:
			if err = os.Symlink(e.Target, at); err == nil {
				err = b.As.Take(at)
			}
		case tree.Twin:
			err = os.Link(b.at(e.Target), at)
		}
		if err != nil {
			return err
		}
	}
	for i := len(b.Tree.Entries) - 1; i >= 0; i-- {
		if e := &b.Tree.Entries[i]; e.Kind == tree.Folder {
			at := b.at(e.Path)
			if err := errors.Join(b.As.Take(at), os.Chmod(at, e.Mode), setTime(at, e.Time)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *Builder) empty(e *tree.Entry) error {
	f, err := os.OpenFile(b.at(e.Path), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(b.dress(f, e, e.Size()), f.Close())
}

// unwritten tells that no piece of a file is written: it is empty, or all of it holes.
func unwritten(e *tree.Entry) bool {
	for i := range e.Pieces {
		if !e.Pieces[i].Hole {
			return false
		}
	}
	return true
}
