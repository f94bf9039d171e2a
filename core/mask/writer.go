package mask

import "bytes"

// Writer hides values in what is written to it and passes the rest on. Not safe for concurrent use.
type Writer struct {
	m       *Masker
	out     func([]byte)
	raw     []byte // not yet decided, as it came
	apart   bool   // whether there are control sequences in it; the next three are kept only then
	text    []byte // raw[:seen] without them
	seen    int
	colours []colour // what is not in text, in order
	next    int      // the first of them that is not passed on yet
	covered int      // so many bytes of text belong to a match that is hidden already; -1: the last byte did not
	made    []byte   // what is about to be passed on
}

// colour is a control sequence that stood before a byte of the text.
type colour struct {
	at       int // in text
	from, to int // in raw
}

// Writer makes a stream masker. out must not keep the slice it is given.
func (m *Masker) Writer(out func([]byte)) *Writer { return &Writer{m: m, out: out, covered: -1} }

// Use goes on with another masker, from what has not been passed on yet.
func (w *Writer) Use(m *Masker) { w.m = m }

// Write never fails. Up to the longest pattern's length is held back until more comes or Flush is called; a line
// break releases what stands before it, because no pattern holds one.
func (w *Writer) Write(p []byte) (int, error) {
	if w.m.longest == 0 && len(w.raw) == 0 {
		w.covered = -1
		w.out(p)
		return len(p), nil
	}
	before := len(w.raw)
	w.raw = append(w.raw, p...)
	if !w.apart && bytes.IndexByte(p, escape) >= 0 {
		w.apart, w.seen, w.text = true, before, append(w.text[:0], w.raw[:before]...)
	}
	if w.apart {
		w.takeApart()
	}
	text := w.plain()
	w.decide(max(len(text)-w.m.longest+1, bytes.LastIndexByte(text, '\n')+1, 0))
	return len(p), nil
}

// plain is what is not yet decided, without control sequences.
func (w *Writer) plain() []byte {
	if w.apart {
		return w.text
	}
	return w.raw
}

// takeApart adds to the text what is new in raw, and its control sequences to the colours. One that is not complete
// yet waits.
func (w *Writer) takeApart() {
	for w.seen < len(w.raw) {
		rest := w.raw[w.seen:]
		next := bytes.IndexByte(rest, escape)
		if next < 0 {
			next = len(rest)
		}
		w.text = append(w.text, rest[:next]...)
		w.seen += next
		if rest = rest[next:]; len(rest) == 0 {
			return
		}
		n, partial := sequence(rest)
		switch {
		case partial:
			return
		case n == 0:
			w.text = append(w.text, rest[0])
			w.seen++
		default:
			w.colours = append(w.colours, colour{len(w.text), w.seen, w.seen + n})
			w.seen += n
		}
	}
}

// Flush releases what is held back.
func (w *Writer) Flush() {
	if w.apart {
		w.text = append(w.text, w.raw[w.seen:]...)
		w.seen = len(w.raw)
	}
	w.decide(len(w.plain()))
}

// decide passes on the text before limit, masked. No match that begins there may need more bytes than there are.
func (w *Writer) decide(limit int) {
	done, end, found := 0, w.covered, false // what is passed on, where the open match ends, whether there is any other
	if w.m.longest > 0 {
		w.m.matches(w.plain(), limit, func(from, to, _ int) {
			found = true
			if end >= 0 && from <= end {
				end = max(end, to)
				return
			}
			w.pass(max(done, end), from)
			w.made = append(w.made, Hidden...)
			done, end = from, to
		})
	}
	switch {
	case !found && end <= 0 && limit > 0: // as most text: it goes on as it came
		_, raw := w.before(limit)
		w.out(w.raw[:raw])
		w.covered = -1
	case end >= limit:
		w.pass(limit, limit)
		w.covered = end - limit
	default:
		w.pass(max(done, end), limit)
		if limit > 0 {
			w.covered = -1
		}
	}
	if len(w.made) > 0 {
		w.out(w.made)
		w.made = w.made[:0]
	}
	w.drop(limit)
}

// before tells how many colours stand before the text from limit on, and where in raw that begins.
func (w *Writer) before(limit int) (colours, raw int) {
	n := len(w.colours)
	for n > 0 && w.colours[n-1].at > limit {
		n--
	}
	if n == 0 {
		return 0, limit
	}
	last := w.colours[n-1]
	return n, last.to + limit - last.at
}

// drop forgets the text before limit.
func (w *Writer) drop(limit int) {
	n, raw := w.before(limit)
	w.raw = w.raw[:copy(w.raw, w.raw[raw:])]
	if !w.apart {
		return
	}
	w.text = w.text[:copy(w.text, w.text[limit:])]
	w.colours = w.colours[:copy(w.colours, w.colours[n:])]
	for i, c := range w.colours {
		w.colours[i] = colour{c.at - limit, c.from - raw, c.to - raw}
	}
	w.seen, w.next = w.seen-raw, 0
	w.apart = len(w.colours) > 0 || w.seen < len(w.raw)
}

// pass makes text[from:to] ready to be passed on, with the colours up to there; those of what is hidden before from
// come first.
func (w *Writer) pass(from, to int) {
	text := w.plain()
	for ; w.next < len(w.colours) && w.colours[w.next].at <= to; w.next++ {
		c := w.colours[w.next]
		if c.at > from {
			w.made = append(w.made, text[from:c.at]...)
			from = c.at
		}
		w.made = append(w.made, w.raw[c.from:c.to]...)
	}
	if to > from {
		w.made = append(w.made, text[from:to]...)
	}
}
