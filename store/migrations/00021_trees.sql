-- +goose Up
-- A saved copy of a cache is a tree, whose written form is the blob; its files are pieces that lie in packs, each piece
-- once for those who may know of it. Copies of before are a help only: they are made anew.
DELETE FROM caches;
ALTER TABLE caches
    ADD COLUMN proposal text NOT NULL DEFAULT '',   -- from outside, which alone restores it; '' everybody
    ADD COLUMN line     text NOT NULL DEFAULT '',   -- the branch, or the proposal, whose run has saved it
    ADD COLUMN shape    text NOT NULL DEFAULT '',   -- same name, paths and platform
    ADD COLUMN digest   bytea NOT NULL DEFAULT '',  -- of the tree's content
    ADD COLUMN files    bigint NOT NULL DEFAULT 0,
    ADD COLUMN written  bigint NOT NULL DEFAULT 0,  -- bytes of the blob
    ADD COLUMN stored   bigint NOT NULL DEFAULT 0,  -- bytes of packs that saving it has added
    ADD COLUMN followed jsonb NOT NULL DEFAULT '{}',-- sums of the files that it follows
    ADD COLUMN run      bigint NOT NULL DEFAULT 0,  -- number of the run that has saved it
    ADD COLUMN job      text NOT NULL DEFAULT '',
    ADD COLUMN uses     bigint NOT NULL DEFAULT 0,
    DROP CONSTRAINT caches_once, ADD CONSTRAINT caches_once UNIQUE (project_id, guard, proposal, key);
CREATE INDEX caches_shape ON caches (project_id, guard, shape);

-- Who may know of a piece that another has stored: those who could restore what it is in.
CREATE TABLE cache_spaces (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    guard      text NOT NULL,
    gated      boolean NOT NULL,
    proposal   text NOT NULL,
    UNIQUE (project_id, guard, gated, proposal)
);

CREATE TABLE cache_packs (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    space_id   bigint NOT NULL REFERENCES cache_spaces ON DELETE CASCADE,
    blob       text NOT NULL,
    size       bigint NOT NULL,                     -- bytes
    used_at    timestamptz NOT NULL DEFAULT now()   -- since when nobody counts on it, if no cache does
);
CREATE INDEX cache_packs_space ON cache_packs (space_id);
CREATE INDEX cache_packs_blob ON cache_packs (blob);
CREATE INDEX cache_packs_used ON cache_packs (used_at);

-- Where the pieces are. There are millions, so no key refers to other tables: they go in the same transaction as packs.
CREATE TABLE cache_pieces (
    space_id bigint NOT NULL,
    sum      bytea NOT NULL,     -- the first half of a piece's name
    pack_id  bigint NOT NULL,
    start    int NOT NULL,       -- of its block, in the pack
    packed   int NOT NULL,       -- bytes of the block there
    raw      int NOT NULL,       -- and unpacked
    before   int NOT NULL,       -- bytes before it in the unpacked block
    PRIMARY KEY (space_id, sum)
);
CREATE INDEX cache_pieces_pack ON cache_pieces (pack_id);

CREATE TABLE cache_refs (
    cache_id bigint NOT NULL REFERENCES caches ON DELETE CASCADE,
    pack_id  bigint NOT NULL REFERENCES cache_packs,
    PRIMARY KEY (cache_id, pack_id)
);
CREATE INDEX cache_refs_pack ON cache_refs (pack_id);

-- What a copy takes: its own blob, and those of its packs that no copy used later has, too. What all of them take
-- together is their sum, and when those unused longest go first each frees what it says.
CREATE VIEW cache_sizes AS
    SELECT c.id, c.written + coalesce(sum(p.size), 0)::bigint AS bytes
    FROM caches c
    LEFT JOIN (SELECT DISTINCT ON (r.pack_id) r.pack_id, r.cache_id FROM cache_refs r JOIN caches c ON c.id = r.cache_id
        ORDER BY r.pack_id, c.last_used_at DESC, c.id DESC) f ON f.cache_id = c.id
    LEFT JOIN cache_packs p ON p.id = f.pack_id
    GROUP BY c.id;

ALTER TABLE cache_uses
    ADD COLUMN nearest  boolean NOT NULL DEFAULT false, -- not what fits, but what is nearest to it
    ADD COLUMN source   bigint NOT NULL DEFAULT 0,      -- number of the run that has saved what was restored
    ADD COLUMN line     text NOT NULL DEFAULT '',       -- and whose
    ADD COLUMN here     boolean NOT NULL DEFAULT false, -- the runner had it
    ADD COLUMN stored   bigint NOT NULL DEFAULT 0,
    ADD COLUMN differs  jsonb NOT NULL DEFAULT '[]';    -- files that it follows and that differ from the nearest

-- +goose Down
ALTER TABLE cache_uses DROP COLUMN nearest, DROP COLUMN source, DROP COLUMN line, DROP COLUMN here, DROP COLUMN stored,
    DROP COLUMN differs;
DROP VIEW cache_sizes;
DROP TABLE cache_refs, cache_pieces, cache_packs, cache_spaces;
DROP INDEX caches_shape;
DELETE FROM caches;
ALTER TABLE caches DROP CONSTRAINT caches_once, ADD CONSTRAINT caches_once UNIQUE (project_id, guard, key),
    DROP COLUMN proposal, DROP COLUMN line, DROP COLUMN shape, DROP COLUMN digest, DROP COLUMN files,
    DROP COLUMN written,
    DROP COLUMN stored, DROP COLUMN followed, DROP COLUMN run, DROP COLUMN job, DROP COLUMN uses;
