package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
)

// Cache is one saved copy of a cache.
type Cache struct {
	ID        record.CacheID          `db:"id"`
	ProjectID record.ProjectID        `db:"project_id"`
	Name      string                  `db:"name"`
	Guard     string                  `db:"guard"`    // of the run that saved it
	Gated     bool                    `db:"gated"`    // it may hold what a secret has opened
	Proposal  string                  `db:"proposal"` // from outside, which alone restores it
	Line      string                  `db:"line"`     // branch or proposal
	Shape     string                  `db:"shape"`    // the same for copies that may stand for each other
	Key       string                  `db:"key"`
	Digest    []byte                  `db:"digest"` // of the tree
	Size      int64                   `db:"size"`   // bytes of the files
	Files     int64                   `db:"files"`
	Written   int64                   `db:"written"` // bytes of the blob
	Stored    int64                   `db:"stored"`  // bytes of packs that saving it has added
	Followed  JSON[map[string]string] `db:"followed"`
	Run       record.RunNumber        `db:"run"`
	Job       string                  `db:"job"`
	Blob      string                  `db:"blob"` // the written tree
	Uses      int64                   `db:"uses"`
	Created   time.Time               `db:"created_at"`
	LastUsed  time.Time               `db:"last_used_at"`
}

// CacheWanted says which copies a run may restore, and which of them are nearest.
type CacheWanted struct {
	ProjectID  record.ProjectID
	Guard      string
	Outside    bool   // it finds nothing that is gated
	Proposal   string // whose copies it finds besides everybody's; "" none
	Key, Shape string
	Lines      []string // of copies that do not fit only these are wanted, the first first
}

// NearestCache finds the copy that fits, else the nearest.
func (q Q) NearestCache(ctx context.Context, w CacheWanted) (c Cache, err error) {
	err = q.get(ctx, &c, `SELECT `+columnsOf[Cache]("c")+` FROM caches c
		WHERE project_id = $1 AND guard = $2 AND (proposal = '' AND NOT (gated AND $4) OR proposal = $5 AND $5 <> '')
			AND (key = $6 OR shape = $3 AND line = ANY($7))
		ORDER BY key = $6 DESC, array_position($7, line), created_at DESC LIMIT 1`,
		w.ProjectID, w.Guard, w.Shape, w.Outside, w.Proposal, w.Key, w.Lines)
	return c, err
}

// UseCache notes that a copy is used; ErrNotFound when it is gone.
func (q Q) UseCache(ctx context.Context, id record.CacheID) error {
	return q.do(ctx, ErrNotFound, `UPDATE caches SET last_used_at = now(), uses = uses + 1 WHERE id = $1`, id)
}

// CacheByID finds a copy of a project.
func (q Q) CacheByID(ctx context.Context, project record.ProjectID, id record.CacheID) (c Cache, err error) {
	err = q.get(ctx, &c, `SELECT `+columnsOf[Cache]("c")+` FROM caches c WHERE project_id = $1 AND id = $2`, project, id)
	return c, err
}

// AddCache notes a saved copy and the packs that it needs; ErrExists when there is one of the key already, which stays:
// it is as good. ErrNotFound when a pack is gone.
func (q Q) AddCache(ctx context.Context, c Cache, packs []tree.PackID) error {
	err := q.get(ctx, &c.ID, `INSERT INTO caches (project_id, name, guard, gated, proposal, line, shape, key, digest, size,
		files, written, stored, followed, run, job, blob)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)
		ON CONFLICT (project_id, guard, proposal, key) DO NOTHING RETURNING id`,
		c.ProjectID, c.Name, c.Guard, c.Gated, c.Proposal, c.Line, c.Shape, c.Key, c.Digest, c.Size, c.Files, c.Written,
		c.Stored, asJSON(c.Followed.V), c.Run, c.Job, c.Blob)
	if errors.Is(err, ErrNotFound) {
		return ErrExists
	}
	if err != nil {
		return err
	}
	return q.do(ctx, nil, `INSERT INTO cache_refs (cache_id, pack_id) SELECT $1, unnest($2::bigint[])`, c.ID, packs)
}

// Space is those who may know of each other's pieces.
type Space struct {
	ProjectID record.ProjectID
	Guard     string
	Gated     bool
	Proposal  string
}

const findSpace = `SELECT id FROM cache_spaces WHERE project_id = $1 AND guard = $2 AND gated = $3 AND proposal = $4`

func (s Space) args() []any { return []any{s.ProjectID, s.Guard, s.Gated, s.Proposal} }

// space finds the id of a space, or makes it.
func (q Q) space(ctx context.Context, s Space) (id int64, err error) {
	if err = q.get(ctx, &id, findSpace, s.args()...); !errors.Is(err, ErrNotFound) {
		return id, err
	}
	err = q.do(ctx, nil, `INSERT INTO cache_spaces (project_id, guard, gated, proposal) VALUES ($1, $2, $3, $4)
		ON CONFLICT DO NOTHING`, s.args()...)
	if err == nil {
		err = q.get(ctx, &id, findSpace, s.args()...)
	}
	return id, err
}

// half is the part of a piece's name by which it is found. What a place holds is compared with the whole name by
// whoever reads it.
func half(id chunk.ID) []byte { return id[:16] }

func halves(ids []chunk.ID) [][]byte {
	list := make([][]byte, len(ids))
	for i := range ids {
		list[i] = half(ids[i])
	}
	return list
}

type pieceRow struct {
	N      int         `db:"n"`
	Pack   tree.PackID `db:"pack_id"`
	Start  uint32      `db:"start"`
	Packed uint32      `db:"packed"`
	Raw    uint32      `db:"raw"`
	Before uint32      `db:"before"`
}

// stillWanted is for how long a pack that was counted on stays without being counted on again.
const stillWanted = `interval '1 hour'`

// Places tells where pieces are that are known in a space; zero places for the others. The packs they are in are
// counted on from now.
func (q Q) Places(ctx context.Context, of Space, ids []chunk.ID) ([]tree.Place, error) {
	places := make([]tree.Place, len(ids))
	var space int64
	err := q.get(ctx, &space, findSpace, of.args()...)
	if errors.Is(err, ErrNotFound) {
		return places, nil // nobody has stored any
	}
	if err != nil {
		return nil, err
	}
	var rows []pieceRow
	err = q.list(ctx, &rows, `SELECT w.n - 1 AS n, p.pack_id, p.start, p.packed, p.raw, p.before
		FROM unnest($2::bytea[]) WITH ORDINALITY w (sum, n) JOIN cache_pieces p ON p.space_id = $1 AND p.sum = w.sum`,
		space, halves(ids))
	packs := map[tree.PackID]bool{}
	for _, r := range rows {
		places[r.N] = tree.Place{Pack: r.Pack, Block: tree.Block{Start: r.Start, Packed: r.Packed, Raw: r.Raw},
			From: r.Before}
		packs[r.Pack] = true
	}
	if err != nil || len(packs) == 0 {
		return places, err
	}
	list := make([]tree.PackID, 0, len(packs))
	for id := range packs {
		list = append(list, id)
	}
	return places, q.do(ctx, nil, `UPDATE cache_packs SET used_at = now() WHERE id = ANY($1) AND used_at < now() - `+
		stillWanted, list)
}

// AddPack notes a pack and the pieces in it. Pieces that are known stay where they are.
func (q Q) AddPack(ctx context.Context, of Space, blob string, size int64, blocks []tree.Packed) (id tree.PackID,
	err error) {
	// That the disk has it is not waited for: the cache that needs the pack is written later, and its commit waits for
	// both (PostgreSQL documentation, 28.4, Asynchronous Commit).
	if err := q.do(ctx, nil, `SET LOCAL synchronous_commit = off`); err != nil {
		return 0, err
	}
	space, err := q.space(ctx, of)
	if err != nil {
		return 0, err
	}
	err = q.get(ctx, &id, `INSERT INTO cache_packs (space_id, blob, size) VALUES ($1, $2, $3) RETURNING id`, space, blob,
		size)
	if err != nil {
		return 0, err
	}
	var sums [][]byte
	var starts, packed, raw, before []int64
	for _, b := range blocks {
		from := int64(0)
		for _, p := range b.Pieces {
			sums = append(sums, half(p.ID))
			starts, packed, raw, before = append(starts, int64(b.Start)), append(packed, int64(b.Block.Packed)),
				append(raw, int64(b.Raw)), append(before, from)
			from += int64(p.Len)
		}
	}
	return id, q.do(ctx, nil, `INSERT INTO cache_pieces (space_id, sum, pack_id, start, packed, raw, before)
		SELECT $1, s, $2, a, b, c, d FROM unnest($3::bytea[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[])
			AS t (s, a, b, c, d)
		ON CONFLICT DO NOTHING`, space, id, sums, starts, packed, raw, before)
}

// PackOf finds a pack that a copy needs; ErrNotFound when it needs no such pack.
func (q Q) PackOf(ctx context.Context, cache record.CacheID, pack tree.PackID) (p StoredPack, err error) {
	err = q.get(ctx, &p, `SELECT p.id, p.blob, p.size FROM cache_refs r JOIN cache_packs p ON p.id = r.pack_id
		WHERE r.cache_id = $1 AND r.pack_id = $2`, cache, pack)
	return p, err
}

// StoredPack is a pack, and where it is.
type StoredPack struct {
	ID   tree.PackID `db:"id"`
	Blob string      `db:"blob"`
	Size int64       `db:"size"` // bytes
}

// PacksOf lists the packs that a copy needs.
func (q Q) PacksOf(ctx context.Context, cache record.CacheID) (list []StoredPack, err error) {
	err = q.list(ctx, &list, `SELECT p.id, p.blob, p.size FROM cache_refs r JOIN cache_packs p ON p.id = r.pack_id
		WHERE r.cache_id = $1 ORDER BY p.id`, cache)
	return list, err
}

// PacksIn counts which of some packs are of a space, or are needed by a copy.
func (q Q) PacksIn(ctx context.Context, of Space, older record.CacheID, packs []tree.PackID) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM cache_packs p WHERE id = ANY($5) AND (space_id = (`+findSpace+`)
		OR EXISTS (SELECT FROM cache_refs r WHERE r.cache_id = $6 AND r.pack_id = p.id))`,
		append(of.args(), packs, older)...)
	return n, err
}

// LosePack forgets a pack that is damaged, the pieces in it, and the copies that need it; what is given back are the
// blobs that nothing speaks of any more. Nobody is told of these pieces again, so the next to save them stores them
// anew.
func (q Q) LosePack(ctx context.Context, pack tree.PackID) (blobs []string, err error) {
	err = q.list(ctx, &blobs, `WITH gone AS (DELETE FROM caches WHERE id IN (SELECT cache_id FROM cache_refs
		WHERE pack_id = $1) RETURNING blob) SELECT blob FROM gone`, pack)
	if err != nil {
		return nil, err
	}
	if err := q.do(ctx, nil, `DELETE FROM cache_pieces WHERE pack_id = $1`, pack); err != nil {
		return nil, err
	}
	var blob string
	if err := q.get(ctx, &blob, `DELETE FROM cache_packs WHERE id = $1 RETURNING blob`, pack); err != nil {
		return nil, err
	}
	return append(blobs, blob), nil
}

// DropPacks forgets some packs that no copy needs and nobody has counted on since a time, with their pieces, and gives
// their blobs.
func (q Q) DropPacks(ctx context.Context, before time.Time, limit int) (blobs []string, err error) {
	var gone []StoredPack
	err = q.list(ctx, &gone, `DELETE FROM cache_packs WHERE id IN (SELECT id FROM cache_packs p WHERE used_at < $1
			AND NOT EXISTS (SELECT FROM cache_refs r WHERE r.pack_id = p.id) LIMIT $2 FOR UPDATE SKIP LOCKED)
		RETURNING id, blob, size`, before, limit)
	if err != nil || len(gone) == 0 {
		return nil, err
	}
	ids := make([]tree.PackID, len(gone))
	for i, g := range gone {
		ids[i], blobs = g.ID, append(blobs, g.Blob)
	}
	return blobs, q.do(ctx, nil, `DELETE FROM cache_pieces WHERE pack_id = ANY($1)`, ids)
}

// CacheUse is what came of a cache in an attempt.
type CacheUse struct {
	AttemptID record.AttemptID `db:"attempt_id"`
	Name      string           `db:"name"`
	Key       string           `db:"key"`
	Hit       bool             `db:"hit"`     // what fits was restored
	Nearest   bool             `db:"nearest"` // what is nearest to it was
	Source    record.RunNumber `db:"source"`  // that has saved it
	Line      string           `db:"line"`    // and whose
	Here      bool             `db:"here"`    // the runner had it
	Saved     bool             `db:"saved"`
	Size      int64            `db:"size"`
	Stored    int64            `db:"stored"`
	TookMs    int64            `db:"took_ms"`
	Differs   JSON[[]string]   `db:"differs"`
	Note      string           `db:"note"`
}

// SetCacheUse notes what came of a cache in an attempt.
func (q Q) SetCacheUse(ctx context.Context, u CacheUse) error {
	return q.do(ctx, nil, `INSERT INTO cache_uses (attempt_id, name, key, hit, saved, size, took_ms, note, nearest, source,
			line, here, stored, differs)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)
		ON CONFLICT (attempt_id, name) DO UPDATE SET key = $3, hit = $4, saved = $5, size = $6, took_ms = $7, note = $8,
			nearest = $9, source = $10, line = $11, here = $12, stored = $13, differs = $14`,
		u.AttemptID, u.Name, u.Key, u.Hit, u.Saved, u.Size, u.TookMs, u.Note, u.Nearest, u.Source, u.Line, u.Here, u.Stored,
		asJSON(u.Differs.V))
}

// CacheUses lists what came of the caches in a run.
func (q Q) CacheUses(ctx context.Context, run record.RunID) (list []CacheUse, err error) {
	err = q.list(ctx, &list,
		`SELECT `+columnsOf[CacheUse]("u")+` FROM cache_uses u JOIN attempts a ON a.id = u.attempt_id WHERE a.run_id = $1
		ORDER BY u.attempt_id, u.name`, run)
	return list, err
}

// DropCache forgets a copy. Its packs stay until it is time.
func (q Q) DropCache(ctx context.Context, project record.ProjectID, id record.CacheID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM caches WHERE project_id = $1 AND id = $2`, project, id)
}

// DropSame forgets the copy in whose place another is to come, if there is one.
func (q Q) DropSame(ctx context.Context, c Cache) error {
	return q.do(ctx, nil, `DELETE FROM caches WHERE project_id = $1 AND guard = $2 AND proposal = $3 AND key = $4`,
		c.ProjectID, c.Guard, c.Proposal, c.Key)
}

// ListedCache is a copy with what it takes beside those that were used later.
type ListedCache struct {
	Cache
	Takes int64 `db:"takes"`
}

// CachePage is a part of a project's copies.
type CachePage struct {
	Name, Line string // only of these; "" any
	After      record.CacheID
	Limit      int
}

// Caches lists copies of a project, the newest first.
func (q Q) Caches(ctx context.Context, project record.ProjectID, page CachePage) (list []ListedCache, err error) {
	err = q.list(ctx, &list, `SELECT `+columnsOf[Cache]("c")+`, s.bytes AS takes
		FROM caches c JOIN cache_sizes s USING (id)
		WHERE c.project_id = $1 AND $2 IN ('', c.name) AND $3 IN ('', c.line) AND ($4::bigint = 0 OR c.id < $4)
		ORDER BY c.id DESC LIMIT $5`, project, page.Name, page.Line, page.After, page.Limit)
	return list, err
}

// CacheSum is what all copies of a project come to.
type CacheSum struct {
	Copies int64 `db:"copies"`
	Size   int64 `db:"size"`
	Takes  int64 `db:"takes"`
}

// CacheSum adds up a project's copies.
func (q Q) CacheSum(ctx context.Context, project record.ProjectID) (sum CacheSum, err error) {
	err = q.get(ctx, &sum, `SELECT count(*) AS copies, coalesce(sum(c.size), 0)::bigint AS size,
		coalesce(sum(s.bytes), 0)::bigint AS takes FROM caches c JOIN cache_sizes s USING (id) WHERE c.project_id = $1`,
		project)
	return sum, err
}

// ReusedSteps tells how many steps of a project were reused since a time, and how many milliseconds they took when they
// were run.
func (q Q) ReusedSteps(ctx context.Context, project record.ProjectID, since time.Time) (n, ms int64, err error) {
	var sum struct {
		N  int64 `db:"n"`
		Ms int64 `db:"ms"`
	}
	err = q.get(ctx, &sum, `SELECT count(*) AS n, coalesce(sum((s.reuse ->> 'took_ms')::bigint), 0)::bigint AS ms
		FROM runs r JOIN attempts a ON a.run_id = r.id JOIN steps s ON s.attempt_id = a.id
		WHERE r.project_id = $1 AND r.queued_at >= $2 AND s.state = 'reused'`, project, since)
	return sum.N, sum.Ms, err
}

// CacheRecord is what came of a cache of one job.
type CacheRecord struct {
	Pipeline string `db:"pipeline"`
	Job      string `db:"job"`
	Name     string `db:"name"`
	Hits     int64  `db:"hits"`
	Nearest  int64  `db:"nearest"`
	Misses   int64  `db:"misses"`
	HitMs    *int64 `db:"hit_ms"`  // of passed attempts, in the mean, by their median
	MissMs   *int64 `db:"miss_ms"` // and of those that had nothing
}

// CacheRecords tells what came of a project's caches since a time.
func (q Q) CacheRecords(ctx context.Context, project record.ProjectID, since time.Time) (list []CacheRecord,
	err error) {
	err = q.list(ctx, &list, `SELECT r.pipeline, j.name AS job, u.name, count(*) FILTER (WHERE u.hit) AS hits,
			count(*) FILTER (WHERE u.nearest) AS nearest, count(*) FILTER (WHERE NOT u.hit AND NOT u.nearest) AS misses,
			(percentile_cont(0.5) WITHIN GROUP (ORDER BY t.ms) FILTER (WHERE u.hit AND t.ms IS NOT NULL))::bigint AS hit_ms,
			(percentile_cont(0.5) WITHIN GROUP (ORDER BY t.ms)
				FILTER (WHERE NOT u.hit AND NOT u.nearest AND t.ms IS NOT NULL))::bigint AS miss_ms
		FROM cache_uses u JOIN attempts a ON a.id = u.attempt_id JOIN jobs j ON j.id = a.job_id JOIN runs r ON r.id = a.run_id
		CROSS JOIN LATERAL (SELECT CASE WHEN a.state = 'passed'
			THEN extract(epoch FROM a.finished_at - a.claimed_at) * 1000
				+ (SELECT coalesce(sum((s.reuse ->> 'took_ms')::bigint), 0) -- what reusing has saved is not the cache's doing
					FROM steps s WHERE s.attempt_id = a.id AND s.state = 'reused') END AS ms) t
		WHERE a.project_id = $1 AND r.queued_at >= $2 AND u.key <> '' AND a.finished_at IS NOT NULL
		GROUP BY r.pipeline, j.name, u.name ORDER BY r.pipeline, j.name, u.name`, project, since)
	return list, err
}
