package main

import (
	"context"
	"fmt"
	"time"
)

const (
	piecesHeld  = 1_000_000
	piecesAPack = 500
)

// collecting measures how long it takes to give up a million pieces that no copy needs, beside the time in which
// PostgreSQL deletes as many rows by one statement.
func collecting(ctx context.Context) error {
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	fill := func() error {
		for _, statement := range []string{
			`INSERT INTO cache_spaces (project_id, guard, gated, proposal) SELECT id, '', false, '' FROM projects
				WHERE name = 'yard' ON CONFLICT DO NOTHING`,
			fmt.Sprintf(`INSERT INTO cache_packs (space_id, blob, size, used_at) SELECT s.id, 'packs/bench/' || g, 4000000,
				now() - interval '2 days' FROM cache_spaces s, generate_series(1, %d) g`, piecesHeld/piecesAPack),
			fmt.Sprintf(`INSERT INTO cache_pieces (space_id, sum, pack_id, start, packed, raw, before)
				SELECT p.space_id, decode(md5(p.id || ' ' || g), 'hex'), p.id, 0, 9000, 12000, 0
				FROM cache_packs p, generate_series(1, %d) g`, piecesAPack),
			`ANALYZE cache_packs, cache_pieces`} {
			if _, err := y.db.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	}
	if err := fill(); err != nil {
		return err
	}
	began := time.Now()
	if err := y.host.Service.Caches.DropPacks(ctx, time.Now().Add(-time.Hour)); err != nil {
		return err
	}
	ours := time.Since(began)
	var left int
	if err := y.db.QueryRowContext(ctx, `SELECT count(*) FROM cache_pieces`).Scan(&left); err != nil {
		return err
	}
	if left > 0 {
		return fmt.Errorf("%d pieces are left", left)
	}
	if err := fill(); err != nil {
		return err
	}
	began = time.Now()
	if _, err := y.db.ExecContext(ctx, `DELETE FROM cache_pieces`); err != nil {
		return err
	}
	fmt.Printf("\ngiving up %d pieces in %d packs: %.1f s; wanted: under 60. One DELETE of as many rows: %.1f s\n",
		piecesHeld, piecesHeld/piecesAPack, ours.Seconds(), time.Since(began).Seconds())
	return nil
}
