ALTER TABLE install DROP COLUMN outcome;
ALTER TABLE install DROP COLUMN open_questions;
ALTER TABLE install DROP COLUMN asked;
ALTER TABLE install DROP COLUMN layers;
ALTER TABLE answers_version RENAME TO answers_after;
CREATE TABLE answers_version (
    id       TEXT PRIMARY KEY NOT NULL,
    name     TEXT NOT NULL,
    number   INTEGER NOT NULL,
    created  BIGINT NOT NULL,
    settings TEXT NOT NULL,
    removed  BOOLEAN NOT NULL DEFAULT FALSE,
    UNIQUE (name, number)
);
INSERT INTO answers_version SELECT id, name, number, created, settings, removed FROM answers_after WHERE scope = 'answers';
DROP TABLE answers_after;
