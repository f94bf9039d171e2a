package stays

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const (
	// mostRecorded is how much may be printed in a shell, in bytes: then it ends.
	mostRecorded = 32 << 20
	// A piece of a recording is kept when it has so many bytes, or is so old.
	pieceBytes = 64 << 10
	pieceAge   = time.Second
)

// recorder keeps what is shown in a shell. Of files that are taken out it keeps how many bytes they were.
type recorder struct {
	s    *Stays
	id   record.ShellID
	cast *talk.Cast // nil for files
	stop func()
	done chan struct{}

	mu     sync.Mutex
	text   strings.Builder // that is not kept yet
	bytes  int64           // printed, of that
	all    int64
	number int
	failed error
}

func newRecorder(s *Stays, h store.Shell, one store.Stay) *recorder {
	r := &recorder{s: s, id: h.ID, done: make(chan struct{})}
	if h.Kind == string(api.ShellShell) {
		var header string
		r.cast, header = talk.NewCast(talk.Size{Cols: h.Cols, Rows: h.Rows},
			fmt.Sprintf("%s in %s of %s, by %s", h.Kind, subject(one.Job, one.Run), one.Project, h.Who), time.Now())
		r.text.WriteString(header)
	}
	life, cancel := context.WithCancel(ground.AsItself(context.Background()))
	r.stop = cancel
	go r.keepOften(life)
	return r
}

// seen writes down what comes from the runner. Its error ends the shell.
func (r *recorder) seen(kind talk.Kind, body []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed != nil {
		return fmt.Errorf("what is shown cannot be recorded: %w", r.failed)
	}
	if r.cast != nil && r.all > mostRecorded {
		return fmt.Errorf("%s were printed, and no more is recorded", quantity.Bytes(mostRecorded))
	}
	switch kind {
	case talk.Data:
		r.all += int64(len(body))
		r.bytes += int64(len(body))
		if r.cast == nil {
			return nil
		}
		r.text.WriteString(r.cast.Shows(body, time.Now()))
	case talk.Resize:
		if r.cast != nil {
			line := r.cast.Resized(talk.SizeOf(body), time.Now())
			r.all += int64(len(line)) // of a shell that changes its size without end, too
			r.text.WriteString(line)
		}
	}
	if r.text.Len() >= pieceBytes {
		return r.keep(context.Background())
	}
	return nil
}

// keepOften keeps what there is, every while.
func (r *recorder) keepOften(ctx context.Context) {
	defer close(r.done)
	tick := time.NewTicker(pieceAge)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			r.mu.Lock()
			_ = r.keep(ctx) // the next piece meets it
			r.mu.Unlock()
		}
	}
}

// keep writes what was not kept yet. mu is held.
func (r *recorder) keep(ctx context.Context) error {
	if r.text.Len() == 0 && r.bytes == 0 {
		return nil
	}
	text := strings.ReplaceAll(r.text.String(), `\u0000`, `\ufffd`)
	if err := r.s.Store.AddShellPart(ctx, r.id, r.number, text, r.bytes); err != nil {
		r.failed = err
		return fmt.Errorf("what is shown cannot be recorded: %w", err)
	}
	r.text.Reset()
	r.bytes, r.failed = 0, nil
	r.number++
	return nil
}

// close keeps the rest.
func (r *recorder) close(ctx context.Context) error {
	r.stop()
	<-r.done
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.keep(ctx)
}

// Recording writes what was shown in a shell, as asciicast v2.
func (s *Stays) Recording(ctx context.Context, project string, id record.ShellID) (io.ReadCloser, error) {
	_, h, _, err := s.shell(ctx, project, id)
	if err != nil {
		return nil, err
	}
	if h.Kind != string(api.ShellShell) || h.Opened == nil {
		return nil, fmt.Errorf("a recording of shell %d: %w", id, ground.ErrNotFound)
	}
	// What was shown is given up with the log of its job.
	if _, err := s.Store.ShellPart(ctx, id, 0); err != nil {
		return nil, ground.Known(err, "the recording of shell %d, kept as long as the log", id)
	}
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(s.writeParts(ctx, id, writer)) }()
	return reader, nil
}

func (s *Stays) writeParts(ctx context.Context, id record.ShellID, to io.Writer) error {
	for n := 0; ; n++ {
		text, err := s.Store.ShellPart(ctx, id, n)
		if err != nil {
			if ground.Changed(err) {
				return nil
			}
			return err
		}
		if _, err := io.WriteString(to, text); err != nil {
			return err
		}
	}
}
