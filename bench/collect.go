package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/state"
)

const (
	piecesHeld  = 1_000_000 // that no copy needs, and as many that one does
	piecesAPack = 500
	collections = 4
)

// collecting measures how long it takes to give up a million pieces that no copy needs, among another million, beside
// the time in which PostgreSQL deletes as many rows by one statement; and how jobs fare meanwhile.
func collecting(ctx context.Context) error {
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	if err := y.pieces(ctx, "now()"); err != nil {
		return err
	}
	shift, err := newShift(y)
	if err != nil {
		return err
	}
	var took, beside, alone []float64
	for range collections {
		if alone, err = shift.until(ctx, alone, func(done int) bool { return done == 10 }); err != nil {
			return err
		}
		if err := y.pieces(ctx, "now() - interval '2 days'"); err != nil {
			return err
		}
		done := make(chan error, 1)
		began := time.Now()
		go func() { done <- y.host.Service.Caches.DropPacks(ctx, time.Now().Add(-time.Hour)) }()
		var dropped error
		beside, err = shift.until(ctx, beside, func(int) bool {
			select {
			case dropped = <-done:
				took = append(took, time.Since(began).Seconds())
				return true
			default:
				return false
			}
		})
		if err := errors.Join(err, dropped); err != nil {
			return err
		}
		var left int
		if err := y.db.QueryRowContext(ctx, `SELECT count(*) FROM cache_pieces`).Scan(&left); err != nil {
			return err
		}
		if left != piecesHeld {
			return fmt.Errorf("%d pieces are left, not %d", left, piecesHeld)
		}
	}
	if err := y.pieces(ctx, "now() - interval '2 days'"); err != nil {
		return err
	}
	began := time.Now()
	if _, err := y.db.ExecContext(ctx, `DELETE FROM cache_pieces p USING cache_packs k WHERE k.id = p.pack_id AND
		k.used_at < now() - interval '1 day'`); err != nil {
		return err
	}
	fmt.Printf("\nOne DELETE of %d pieces: %.1f s\n", piecesHeld, time.Since(began).Seconds())
	report(fmt.Sprintf("giving up %d pieces in %d packs, among as many; wanted: under 60", piecesHeld,
		piecesHeld/piecesAPack), took, "s")
	report("jobs with nothing beside them", alone, "ms")
	report("jobs beside a collection", beside, "ms")
	fmt.Printf("  slower by %.1f %%; wanted: at most 5\n", 100*(median(beside)/median(alone)-1))
	return nil
}

// pieces stores a million pieces in packs that were last counted on at a time.
func (y *yard) pieces(ctx context.Context, used string) error {
	tx, err := y.db.BeginTx(ctx, nil) // or a sweep takes packs whose pieces are still to come
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, statement := range []string{
		`INSERT INTO cache_spaces (project_id, guard, gated, proposal) SELECT id, '', false, '' FROM projects
			WHERE name = 'yard' ON CONFLICT DO NOTHING`,
		fmt.Sprintf(`INSERT INTO cache_packs (space_id, blob, size, used_at)
			SELECT s.id, 'packs/bench/' || g, 4000000, %s
			FROM cache_spaces s, generate_series(1, %d) g`, used, piecesHeld/piecesAPack),
		fmt.Sprintf(`INSERT INTO cache_pieces (space_id, sum, pack_id, start, packed, raw, before)
			SELECT p.space_id, decode(md5(p.id || ' ' || g), 'hex'), p.id, 0, 9000, 12000, 0
			FROM (SELECT * FROM cache_packs ORDER BY id DESC LIMIT %d) p, generate_series(1, %d) g`,
			piecesHeld/piecesAPack, piecesAPack)} {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	dir := filepath.Join(y.home, "blobs", "packs", "bench")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for n := 1; n <= piecesHeld/piecesAPack; n++ {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprint(n)), make([]byte, 64<<10), 0o600); err != nil {
			return err
		}
	}
	for _, settle := range []string{`ANALYZE cache_packs, cache_pieces`, `CHECKPOINT`} {
		if _, err := y.db.ExecContext(ctx, settle); err != nil {
			return err
		}
	}
	return nil
}

// shift does jobs one after the other: each is claimed, keeps a processor busy for a while, and is finished.
type shift struct {
	y         *yard
	runner    *client.Client
	recipient string
	left      int // jobs of the run that was started last
}

func newShift(y *yard) (*shift, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	return &shift{y: y, runner: client.New(y.host.Address, y.token), recipient: identity.Recipient().String()}, nil
}

// until does jobs until it is told to stop, and adds how long each took, in milliseconds.
func (s *shift) until(ctx context.Context, took []float64, stop func(done int) bool) ([]float64, error) {
	for done := 1; ; done++ {
		if s.left == 0 {
			if _, err := s.y.cl.StartRun(ctx, "yard", api.StartRun{Pipeline: "hand"}); err != nil {
				return took, err
			}
			s.left = jobsPerRun
		}
		began := time.Now()
		claimed, err := s.runner.Claim(ctx, api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "bench",
			Labels: []string{"linux"}, Slots: 1, Recipient: s.recipient, WaitMs: 1000})
		if err != nil {
			return took, err
		}
		if claimed.Work == nil {
			return took, errors.New("no job was handed out")
		}
		work()
		_, err = s.runner.Finish(ctx, claimed.Work.Attempt,
			api.Finish{State: state.Passed, At: time.Now().UnixMilli(), Caches: []api.CacheUse{}})
		if err != nil {
			return took, err
		}
		s.left--
		if took = append(took, time.Since(began).Seconds()*1000); stop(done) {
			return took, nil
		}
	}
}

// work is the same each time: some tenths of a second of a processor.
func work() {
	page := make([]byte, 1<<20)
	for range 100 {
		sum := sha256.Sum256(page)
		copy(page, sum[:])
	}
}
