package trees

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/tree"
)

// Pieces is where pieces are stored: the service.
type Pieces interface {
	// Known tells where pieces are that are stored already; zero places for those that are not.
	Known(ctx context.Context, ids []chunk.ID) ([]tree.Place, error)
	// AddPack stores a pack.
	AddPack(ctx context.Context, pack []byte) (tree.PackID, error)
}

// Look looks at a file while it is read.
type Look interface {
	io.Writer
	// End tells why the file may not be stored; nil when it may.
	End() error
}

// Saver cuts files into pieces and stores those that are not stored yet.
type Saver struct {
	Root  *os.Root                // what the files are below
	To    Pieces                  // where they are stored
	Look  func(path string) Look  // nil: nothing is looked for
	Older map[chunk.ID]tree.Place // pieces that are known to be stored
	Told  func(done, all int64)   // how far it is, in bytes; nil: nobody asks

	from   *opener
	ledger ledger
	stored int64
	done   int64
}

// Work is done in parts of about so many bytes, or so many files, as many at a time; each ends in a pack of its own.
const (
	partBytes = 4 << 20
	partFiles = 2048
	partsOnce = 3
)

// ledger knows what each piece's place is, or that somebody is storing it.
type ledger struct {
	mu     sync.Mutex
	places map[chunk.ID]*tree.Place
}

// claim gives a piece's place, and tells whether the caller is to fill it in.
func (l *ledger) claim(id chunk.ID) (place *tree.Place, mine bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if place, has := l.places[id]; has {
		return place, false
	}
	place = &tree.Place{}
	l.places[id] = place
	return place, true
}

// Store stores the files among what was found, and writes into them of which pieces they are. It gives how many bytes
// that took in packs.
func (s *Saver) Store(ctx context.Context, found []Found) (stored int64, err error) {
	if s.from, err = newOpener(s.Root); err != nil {
		return 0, err
	}
	defer s.from.close()
	s.ledger.places = make(map[chunk.ID]*tree.Place, len(s.Older))
	for id, at := range s.Older {
		s.ledger.places[id] = &at
	}
	all := int64(0)
	for i := range found {
		all += found[i].Size
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(partsOnce)
	for _, list := range parts(found) {
		work.Go(func() error { return s.part(ctx, list, all) })
	}
	if err := work.Wait(); err != nil {
		return s.stored, err
	}
	for i := range found {
		for k := range found[i].Pieces {
			if p := &found[i].Pieces[k]; !p.Hole {
				p.At = *s.ledger.places[p.ID]
			}
		}
	}
	return s.stored, nil
}

// part is the work on some neighbouring files.
type part struct {
	*Saver
	ctx    context.Context
	window []byte // what is read and not stored
	cut    int    // up to where it is cut
	fresh  []fresh
	packer *tree.Packer
}

// fresh is a piece that this part is to store.
type fresh struct {
	id       chunk.ID
	from, to int // in the window
	place    *tree.Place
}

// desk is the memory that a part needs. It is lent: what is fresh costs more than what is read into it.
type desk struct {
	window []byte
	packer tree.Packer
}

var desks = sync.Pool{New: func() any { return &desk{window: make([]byte, 0, partBytes+chunk.Most)} }}

func (s *Saver) part(ctx context.Context, found []Found, all int64) error {
	lent := desks.Get().(*desk)
	defer desks.Put(lent)
	p := &part{Saver: s, ctx: ctx, window: lent.window[:0], packer: &lent.packer}
	for i := range found {
		if f := &found[i]; f.Kind == tree.File && f.Pieces == nil {
			if err := p.file(f); err != nil {
				return fmt.Errorf("%s: %w", f.Path, err)
			}
		}
	}
	if err := p.store(); err != nil {
		return err
	}
	s.ledger.mu.Lock()
	defer s.ledger.mu.Unlock()
	for i := range found {
		s.done += found[i].Size
	}
	if s.Told != nil {
		s.Told(s.done, all)
	}
	return nil
}

// file reads a file and cuts it.
func (p *part) file(f *Found) error {
	if f.Size == 0 {
		return nil
	}
	file, err := p.from.open(f.Path, false)
	if err != nil {
		return err
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		return errors.Join(err, errors.New("it is no file any more"))
	}
	var look Look
	if p.Look != nil {
		look = p.Look(f.Path)
	}
	if f.holes {
		err = p.withHoles(f, file, look)
	} else {
		err = p.read(f, file, look)
	}
	if look != nil {
		err = errors.Join(err, look.End())
	}
	return err
}

// withHoles reads a file that has parts which were never written (lseek(2), SEEK_DATA and SEEK_HOLE).
func (p *part) withHoles(f *Found, file *os.File, look Look) error {
	for at := int64(0); at < f.Size; {
		data, err := file.Seek(at, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) {
			data = f.Size // nothing but a hole is left
		} else if err != nil {
			return err
		}
		if data > at {
			f.Pieces = append(f.Pieces, tree.Piece{Len: data - at, Hole: true})
		}
		if data >= f.Size {
			return nil
		}
		if at, err = file.Seek(data, unix.SEEK_HOLE); err != nil {
			return err
		}
		if err := p.read(f, io.NewSectionReader(file, data, at-data), look); err != nil {
			return err
		}
	}
	return nil
}

// read cuts what a reader gives into pieces of a file.
func (p *part) read(f *Found, from io.Reader, look Look) error {
	small := f.Size <= chunk.Whole
	for {
		if cap(p.window)-len(p.window) < chunk.Most/2 {
			if err := p.store(); err != nil {
				return err
			}
		}
		room := p.window[len(p.window):cap(p.window)]
		if small {
			room = room[:min(len(room), int(f.Size)+1)] // one call reads it, and sees that it ends
		}
		n, err := io.ReadFull(from, room)
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !ended {
			return err
		}
		if look != nil {
			_, _ = look.Write(room[:n])
		}
		p.window = p.window[:len(p.window)+n]
		for len(p.window)-p.cut >= chunk.Most || ended && len(p.window) > p.cut {
			rest := p.window[p.cut:]
			n := len(rest)
			if n > chunk.Whole || !small {
				n = chunk.Next(rest)
			}
			p.piece(f, n)
		}
		if ended {
			return nil
		}
	}
}

// piece takes the next n bytes of the window as a piece of a file.
func (p *part) piece(f *Found, n int) {
	id := chunk.Sum(p.window[p.cut : p.cut+n])
	place, mine := p.ledger.claim(id)
	if mine {
		p.fresh = append(p.fresh, fresh{id, p.cut, p.cut + n, place})
	}
	f.Pieces = append(f.Pieces, tree.Piece{Len: int64(n), ID: id})
	p.cut += n
}

// store stores the pieces that are new, in a pack, and makes room in the window.
func (p *part) store() error {
	if len(p.fresh) > 0 {
		if err := p.storeFresh(); err != nil {
			return err
		}
	}
	p.fresh = p.fresh[:0]
	p.window = p.window[:copy(p.window, p.window[p.cut:])]
	p.cut = 0
	return p.ctx.Err()
}

func (p *part) storeFresh() error {
	ids := make([]chunk.ID, len(p.fresh))
	for i, f := range p.fresh {
		ids[i] = f.id
	}
	known, err := p.To.Known(p.ctx, ids)
	if err != nil {
		return err
	}
	if len(known) != len(ids) {
		return fmt.Errorf("of %d pieces it was told where %d are", len(ids), len(known))
	}
	for i, f := range p.fresh {
		if known[i].Pack == 0 {
			p.packer.Add(f.id, p.window[f.from:f.to])
		}
	}
	pack, blocks := p.packer.End()
	id := tree.PackID(0)
	if len(pack) > 0 {
		if id, err = p.To.AddPack(p.ctx, pack); err != nil {
			return err
		}
	}
	places := map[chunk.ID]tree.Place{}
	for _, b := range blocks {
		from := uint32(0)
		for _, piece := range b.Pieces {
			places[piece.ID] = tree.Place{Pack: id, Block: b.Block, From: from}
			from += piece.Len
		}
	}
	p.ledger.mu.Lock()
	defer p.ledger.mu.Unlock()
	for i, f := range p.fresh {
		if *f.place = known[i]; known[i].Pack == 0 {
			*f.place = places[f.id]
		}
	}
	p.stored += int64(len(pack))
	return nil
}

// Tree is what was found, as a tree of some roots.
func Tree(roots []string, found []Found) *tree.Tree {
	t := &tree.Tree{Roots: roots, Entries: make([]tree.Entry, len(found))}
	for i := range found {
		t.Entries[i] = found[i].Entry
	}
	return t
}

// Changes are what a layer changes of an older tree.
func Changes(found []Found) []tree.Change {
	list := make([]tree.Change, len(found))
	for i := range found {
		list[i] = found[i].Change
	}
	return list
}

// Same gives files that are what they were when an older tree was put there the pieces that they have in it, so that
// they are not read: those of the same length and time that the system has not seen changed since, and no program can
// say when that was.
func Same(found []Found, older *tree.Tree, since int64) {
	i := 0
	for n := range found {
		f := &found[n]
		for i < len(older.Entries) && tree.Before(older.Entries[i].Path, f.Path) {
			i++
		}
		if i == len(older.Entries) {
			return
		}
		e := &older.Entries[i]
		if e.Path == f.Path && e.Kind == tree.File && f.Kind == tree.File && f.Changed <= since && e.Time == f.Time &&
			e.Size() == f.Size {
			f.Pieces = e.Pieces
		}
	}
}

// Older are the places of a tree's pieces.
func Older(t *tree.Tree) map[chunk.ID]tree.Place {
	places := map[chunk.ID]tree.Place{}
	for i := range t.Entries {
		for _, p := range t.Entries[i].Pieces {
			if !p.Hole {
				places[p.ID] = p.At
			}
		}
	}
	return places
}
