// Package stream carries what is live: log lines on their way, events, and wake-ups, over NATS JetStream.
//
// The server runs NATS inside its own process, without a network port, its files in the data folder. A log batch
// or event that Publish has accepted is in the operating system's hands and survives a crash of the process.
package stream

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
)

const (
	logStream   = "LOGS"
	eventStream = "EVENTS"
	eventsKept  = 24 * time.Hour
	// MaxBatch is the most bytes of one batch of log lines, in their written form.
	MaxBatch = 1 << 20
)

// Stream is the connection to NATS.
type Stream struct {
	dir  string
	at   *embedded
	nc   *nats.Conn
	js   jetstream.JetStream
	logs jetstream.Stream
	evs  jetstream.Stream

	life   context.CancelFunc
	ended  chan struct{} // closed when nothing watches any more
	looked chan struct{} // an append has failed: look now
	health health
}

// Open starts NATS in this process with its files in dir.
func Open(ctx context.Context, dir string) (*Stream, error) {
	at := &embedded{dir: dir}
	if err := at.start(); err != nil {
		return nil, fmt.Errorf("stream: %w", err)
	}
	nc, err := nats.Connect("", nats.InProcessServer(at), nats.Name("piston"), nats.MaxReconnects(-1),
		nats.ReconnectWait(100*time.Millisecond))
	if err != nil {
		at.stop()
		return nil, fmt.Errorf("stream: %w", err)
	}
	s := &Stream{dir: dir, at: at, nc: nc, ended: make(chan struct{}), looked: make(chan struct{}, 1)}
	if err := s.prepare(ctx); err != nil {
		nc.Close()
		at.stop()
		return nil, fmt.Errorf("stream: %w", err)
	}
	life, cancel := context.WithCancel(context.Background())
	s.life = cancel
	go s.watch(life)
	return s, nil
}

func (s *Stream) prepare(ctx context.Context) (err error) {
	if s.js, err = jetstream.New(s.nc); err != nil {
		return err
	}
	s.logs, err = s.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: logStream, Subjects: []string{"log.*.*"}, Storage: jetstream.FileStorage, Compression: jetstream.S2Compression,
		AllowDirect: true, Duplicates: time.Second,
	})
	if err != nil {
		return err
	}
	s.evs, err = s.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: eventStream, Subjects: []string{"event.*.*"}, Storage: jetstream.FileStorage, MaxAge: eventsKept,
		Duplicates: 2 * time.Minute,
	})
	if err != nil {
		return err
	}
	_, err = s.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: probeStream, Subjects: []string{probeSubject}, Storage: jetstream.FileStorage, MaxMsgs: 1,
	})
	return err
}

// Close ends the connection and NATS, with its files written.
func (s *Stream) Close() {
	s.life()
	<-s.ended
	s.nc.Close()
	s.at.stop()
}

// LogID names the log of one attempt.
type LogID struct {
	Run     record.RunID
	Attempt record.AttemptID
}

func (id LogID) subject() string { return fmt.Sprintf("log.%d.%d", id.Run, id.Attempt) }

// Batch is a stretch of a log.
type Batch struct {
	ID    LogID
	First int64 // number of the first line
	Count int64
	Text  []byte // in the written form of logline
}

// Lines decodes the batch.
func (b Batch) Lines() ([]logline.Line, error) { return logline.Decode(b.First, b.Text) }

// Last is the number of the last line.
func (b Batch) Last() int64 { return b.First + b.Count - 1 }

// AppendLog keeps a batch; it is durable when AppendLog returns. The same lines may be given twice: readers pass
// over what they have seen, by number.
func (s *Stream) AppendLog(ctx context.Context, b Batch) error {
	m := nats.NewMsg(b.ID.subject())
	m.Header.Set("First", strconv.FormatInt(b.First, 10))
	m.Header.Set("Count", strconv.FormatInt(b.Count, 10))
	m.Data = b.Text
	_, err := s.js.PublishMsg(ctx, m)
	return s.meant(ctx, err)
}

func batchOf(subject string, header nats.Header, data []byte) (Batch, error) {
	parts := strings.Split(subject, ".")
	if len(parts) != 3 {
		return Batch{}, fmt.Errorf("no log subject: %q", subject)
	}
	var n [4]int64
	for i, text := range []string{parts[1], parts[2], header.Get("First"), header.Get("Count")} {
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return Batch{}, fmt.Errorf("log batch on %s: %w", subject, err)
		}
		n[i] = v
	}
	return Batch{ID: LogID{record.RunID(n[0]), record.AttemptID(n[1])}, First: n[2], Count: n[3], Text: data}, nil
}

// LastLine is the number of the last line of a log that the stream holds; 0 when it holds none.
func (s *Stream) LastLine(ctx context.Context, id LogID) (int64, error) {
	m, err := s.logs.GetLastMsgForSubject(ctx, id.subject())
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	b, err := batchOf(m.Subject, m.Header, m.Data)
	return b.Last(), err
}

// ReadLog returns up to limit lines from line number from on, as far as the stream holds them now.
// Batches of a log are in order, so the right one is found by halving, without reading what comes before.
func (s *Stream) ReadLog(ctx context.Context, id LogID, from int64, limit int) ([]logline.Line, error) {
	info, err := s.logs.Info(ctx)
	if err != nil {
		return nil, err
	}
	start, err := s.search(ctx, id, from, info.State.FirstSeq, info.State.LastSeq)
	if err != nil {
		return nil, err
	}
	var lines []logline.Line
	seen := from - 1
	for seq := start; len(lines) < limit; {
		m, err := s.next(ctx, id, seq)
		if err != nil || m == nil {
			return lines, err
		}
		part, err := m.Lines()
		if err != nil {
			return nil, err
		}
		for _, l := range part {
			if l.N == seen+1 && len(lines) < limit {
				lines = append(lines, l)
				seen = l.N
			}
		}
		seq = m.seq + 1
	}
	return lines, nil
}

// search finds the sequence of the batch that holds line from, or of the first one when none begins before it.
func (s *Stream) search(ctx context.Context, id LogID, from int64, lo, hi uint64) (uint64, error) {
	best := lo
	for lo <= hi {
		mid := lo + (hi-lo)/2
		m, err := s.next(ctx, id, mid)
		switch {
		case err != nil:
			return 0, err
		case m == nil || m.First > from:
			if mid == 0 {
				return best, nil
			}
			hi = mid - 1
		default:
			best, lo = m.seq, m.seq+1
		}
	}
	return best, nil
}

type placedBatch struct {
	Batch
	seq uint64
}

// next returns the first batch of a log at or after a sequence of the stream, nil when there is none.
func (s *Stream) next(ctx context.Context, id LogID, seq uint64) (*placedBatch, error) {
	m, err := s.logs.GetMsg(ctx, seq, jetstream.WithGetMsgSubject(id.subject()))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	b, err := batchOf(m.Subject, m.Header, m.Data)
	return &placedBatch{b, m.Sequence}, err
}

// PurgeLog drops a log from the stream.
func (s *Stream) PurgeLog(ctx context.Context, id LogID) error {
	return s.logs.Purge(ctx, jetstream.WithPurgeSubject(id.subject()))
}

// LogReader reads batches as they come.
type LogReader struct{ messages jetstream.MessagesContext }

// readAhead is how many batches wait in memory for a slow reader; the rest waits in the stream.
const readAhead = 4

// Logs reads all logs of a run from the stream's beginning on, or only one attempt's.
func (s *Stream) Logs(ctx context.Context, run record.RunID, attempt record.AttemptID) (*LogReader, error) {
	subject := fmt.Sprintf("log.%d.*", run)
	if attempt != 0 {
		subject = LogID{run, attempt}.subject()
	}
	messages, err := s.ordered(ctx, logStream, jetstream.OrderedConsumerConfig{
		FilterSubjects: []string{subject}, DeliverPolicy: jetstream.DeliverAllPolicy})
	return &LogReader{messages}, err
}

func (s *Stream) ordered(ctx context.Context, name string,
	cfg jetstream.OrderedConsumerConfig) (jetstream.MessagesContext, error) {
	cfg.InactiveThreshold = 2 * time.Minute
	c, err := s.js.OrderedConsumer(ctx, name, cfg)
	if err != nil {
		return nil, err
	}
	return c.Messages(jetstream.PullMaxMessages(readAhead), jetstream.PullHeartbeat(10*time.Second),
		jetstream.PullExpiry(30*time.Second))
}

// Next waits for the next batch until ctx ends.
func (r *LogReader) Next(ctx context.Context) (Batch, error) {
	m, err := r.messages.Next(jetstream.NextContext(ctx))
	if err != nil {
		return Batch{}, err
	}
	return batchOf(m.Subject(), m.Headers(), m.Data())
}

// Close frees the reader.
func (r *LogReader) Close() { r.messages.Stop() }

// Event is a published change with its place in the stream.
type Event struct {
	Seq    uint64
	Change api.Change
}

// PublishEvent publishes a change of a project's run. id makes publishing it again harmless for two minutes.
func (s *Stream) PublishEvent(ctx context.Context, project record.ProjectID, id string, c api.Change) error {
	data, err := json.Marshal(c)
	if err != nil {
		return err
	}
	_, err = s.js.Publish(ctx, fmt.Sprintf("event.%d.%d", project, c.Run), data, jetstream.WithMsgID(id))
	return s.meant(ctx, err)
}

// LastEvent is the sequence of the newest event.
func (s *Stream) LastEvent(ctx context.Context) (uint64, error) {
	info, err := s.evs.Info(ctx)
	if err != nil {
		return 0, err
	}
	return info.State.LastSeq, nil
}

// EventReader reads events as they come.
type EventReader struct{ messages jetstream.MessagesContext }

// Events reads events after a sequence: of all projects (0, 0), of one, or of one run of it.
func (s *Stream) Events(ctx context.Context, after uint64, project record.ProjectID,
	run record.RunNumber) (*EventReader, error) {
	subject := "event.*.*"
	switch {
	case run != 0:
		subject = fmt.Sprintf("event.%d.%d", project, run)
	case project != 0:
		subject = fmt.Sprintf("event.%d.*", project)
	}
	messages, err := s.ordered(ctx, eventStream, jetstream.OrderedConsumerConfig{
		FilterSubjects: []string{subject}, DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: after + 1})
	return &EventReader{messages}, err
}

// Next waits for the next event until ctx ends.
func (r *EventReader) Next(ctx context.Context) (Event, error) {
	m, err := r.messages.Next(jetstream.NextContext(ctx))
	if err != nil {
		return Event{}, err
	}
	meta, err := m.Metadata()
	if err != nil {
		return Event{}, err
	}
	e := Event{Seq: meta.Sequence.Stream}
	return e, json.Unmarshal(m.Data(), &e.Change)
}

// Close frees the reader.
func (r *EventReader) Close() { r.messages.Stop() }

// Wake tells whoever waits on a topic, on any server of the cluster, to look again. Nothing is kept.
func (s *Stream) Wake(topic string) { _ = s.nc.Publish("wake."+topic, nil) }

// OnWake returns a channel that receives after each wake-up of a topic, several at once as one.
func (s *Stream) OnWake(topic string) (woken <-chan struct{}, cancel func(), err error) {
	ch := make(chan struct{}, 1)
	sub, err := s.nc.Subscribe("wake."+topic, func(*nats.Msg) {
		select {
		case ch <- struct{}{}:
		default:
		}
	})
	if err != nil {
		return nil, nil, err
	}
	return ch, func() { _ = sub.Unsubscribe() }, nil
}

// Pass gives a message to whoever listens on a topic, on any server of the cluster. Nothing is kept.
func (s *Stream) Pass(topic string, message []byte) error {
	return s.nc.Publish("pass."+topic, message)
}

// Listen hears the messages of a topic from now on, in their order, until cancel. Who takes them too slowly holds up
// nobody, and loses some: those who pass many agree on how many may be on their way.
func (s *Stream) Listen(topic string) (messages <-chan []byte, cancel func(), err error) {
	ch, ended := make(chan []byte), make(chan struct{})
	sub, err := s.nc.Subscribe("pass."+topic, func(m *nats.Msg) {
		select {
		case ch <- m.Data:
		case <-ended:
		}
	})
	if err == nil {
		err = s.nc.Flush() // what is passed from now on arrives
	}
	if err != nil {
		return nil, nil, err
	}
	return ch, func() { close(ended); _ = sub.Unsubscribe() }, nil
}
