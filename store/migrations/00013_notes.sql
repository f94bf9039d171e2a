-- +goose Up
-- What is told of a release, by language. A draft gives way to the next draft; what a person wrote stays until a person
-- takes it back.
CREATE TABLE release_notes (
    project_id   bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    app          text NOT NULL,
    name_key     text COLLATE "C" NOT NULL,    -- of the version's name, as in versions
    language     text NOT NULL,
    draft        text NOT NULL DEFAULT '',
    file         text NOT NULL DEFAULT '',     -- the draft stands there; '' when it was made of commits
    main         boolean NOT NULL DEFAULT false, -- in the language of the commits
    problem      text NOT NULL DEFAULT '',     -- why the file cannot be used
    corrected    text,
    corrected_by text NOT NULL DEFAULT '',
    corrected_at timestamptz,
    revision     integer NOT NULL DEFAULT 1,   -- one more with each correction
    PRIMARY KEY (project_id, app, name_key, language)
);

-- +goose Down
DROP TABLE release_notes;
