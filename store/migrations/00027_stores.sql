-- +goose Up
-- Outlets that speak the outlet protocol, and what they are spoken to with.
ALTER TABLE outlets DROP CONSTRAINT outlets_kind_check;
ALTER TABLE outlets ADD CONSTRAINT outlets_kind_check CHECK (kind IN ('folder', 'store'));
ALTER TABLE outlets ADD COLUMN ciphertext bytea,         -- age-encrypted
    ADD COLUMN sealed_to  text REFERENCES masters,
    ADD COLUMN expires_at timestamptz;                   -- what it is spoken to with
CREATE INDEX outlets_sealed ON outlets (sealed_to);

ALTER TABLE publications
    ADD COLUMN key    text NOT NULL DEFAULT gen_random_uuid(),  -- stands for it at its outlet, over all tries
    ADD COLUMN hold   boolean NOT NULL DEFAULT false,           -- keep it until a share is set
    ADD COLUMN asks   jsonb NOT NULL DEFAULT '[]';              -- what a person has to answer at the outlet
CREATE INDEX publications_ref ON publications (outlet_id, ref);

-- +goose Down
DROP INDEX publications_ref;
ALTER TABLE publications DROP COLUMN key, DROP COLUMN hold, DROP COLUMN asks;
DROP INDEX outlets_sealed;
ALTER TABLE outlets DROP COLUMN ciphertext, DROP COLUMN sealed_to, DROP COLUMN expires_at;
DELETE FROM outlets WHERE kind <> 'folder';
ALTER TABLE outlets DROP CONSTRAINT outlets_kind_check;
ALTER TABLE outlets ADD CONSTRAINT outlets_kind_check CHECK (kind IN ('folder'));
