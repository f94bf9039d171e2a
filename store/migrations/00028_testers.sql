-- +goose Up
ALTER TABLE outlets DROP CONSTRAINT outlets_kind_check;
ALTER TABLE outlets ADD CONSTRAINT outlets_kind_check CHECK (kind IN ('folder', 'bucket', 'store', 'testers'));
ALTER TABLE publications ADD COLUMN note text NOT NULL DEFAULT '',   -- what those who get it should look at
    ADD COLUMN stages     jsonb NOT NULL DEFAULT '[]',  -- how its share is raised by itself
    ADD COLUMN shared_at  timestamptz;                  -- when its share was raised last

-- Mail programs offer to end what comes from there (RFC 8058).
ALTER TABLE letters ADD COLUMN stop text NOT NULL DEFAULT '';
CREATE INDEX letters_recipient ON letters (recipient, id);

-- People who try releases. They have a mail address and no account, and a page that only their link leads to.
CREATE TABLE testers (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    address    text NOT NULL,
    link       text NOT NULL UNIQUE,
    added_by   text NOT NULL,
    added_at   timestamptz NOT NULL DEFAULT now(),
    quiet      boolean NOT NULL DEFAULT false,   -- they want no mail
    UNIQUE (project_id, address)
);
CREATE TABLE tester_groups (
    tester_id bigint NOT NULL REFERENCES testers ON DELETE CASCADE,
    name      text NOT NULL,
    PRIMARY KEY (tester_id, name)
);
CREATE INDEX tester_groups_name ON tester_groups (name);

-- Releases that a group of testers may have.
CREATE TABLE trials (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    outlet_id  bigint NOT NULL REFERENCES outlets ON DELETE CASCADE,
    release_id bigint NOT NULL REFERENCES releases ON DELETE CASCADE,
    name       text NOT NULL,                    -- of the group
    key        text NOT NULL UNIQUE,             -- of the publication
    note       text NOT NULL,
    begun_at   timestamptz NOT NULL DEFAULT now(),
    ends_at    timestamptz NOT NULL,
    halted     boolean NOT NULL DEFAULT false
);
CREATE INDEX trials_of ON trials (outlet_id, name);
CREATE INDEX trials_release ON trials (release_id);

CREATE TABLE downloads (
    trial_id  bigint NOT NULL REFERENCES trials ON DELETE CASCADE,
    tester_id bigint NOT NULL REFERENCES testers ON DELETE CASCADE,
    file      text NOT NULL,
    times     int NOT NULL DEFAULT 1,
    last_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (trial_id, tester_id, file)
);
CREATE INDEX downloads_tester ON downloads (tester_id);

-- What testers say of a release.
CREATE TABLE words (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    release_id bigint NOT NULL REFERENCES releases ON DELETE CASCADE,
    tester_id  bigint REFERENCES testers ON DELETE SET NULL,
    at         timestamptz NOT NULL DEFAULT now(),
    text       text NOT NULL,
    picture    bytea                             -- JPEG, made anew: it holds nothing but what is seen
);
CREATE INDEX words_release ON words (release_id, id);
CREATE INDEX words_tester ON words (tester_id, at);

-- Devices that a provisioning profile has to list.
CREATE TABLE test_devices (
    tester_id bigint NOT NULL REFERENCES testers ON DELETE CASCADE,
    device    text NOT NULL,
    name      text NOT NULL,
    added_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (tester_id, device)
);

-- +goose Down
DROP TABLE test_devices, words, downloads, trials, tester_groups, testers;
DROP INDEX letters_recipient;
ALTER TABLE letters DROP COLUMN stop;
ALTER TABLE publications DROP COLUMN note, DROP COLUMN stages, DROP COLUMN shared_at;
DELETE FROM outlets WHERE kind IN ('bucket', 'testers');
ALTER TABLE outlets DROP CONSTRAINT outlets_kind_check;
ALTER TABLE outlets ADD CONSTRAINT outlets_kind_check CHECK (kind IN ('folder', 'store'));
