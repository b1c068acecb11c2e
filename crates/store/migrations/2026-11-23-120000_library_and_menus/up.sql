-- Revisions say what is started, what was recognised in them, and how they are.
ALTER TABLE image ADD COLUMN last_number INTEGER NOT NULL DEFAULT 0;
UPDATE image SET last_number = (SELECT MAX(number) FROM image_revision WHERE image_id = image.id);

ALTER TABLE image_revision ADD COLUMN start TEXT NOT NULL DEFAULT '';
UPDATE image_revision SET start = json_object('kernel', json_object('kernel', kernel, 'initrds', json(initrds)));
ALTER TABLE image_revision DROP COLUMN kernel;
ALTER TABLE image_revision DROP COLUMN initrds;
ALTER TABLE image_revision ADD COLUMN cpu TEXT;
ALTER TABLE image_revision ADD COLUMN volume TEXT;
ALTER TABLE image_revision ADD COLUMN recognised TEXT NOT NULL DEFAULT '{}';
ALTER TABLE image_revision ADD COLUMN lacks TEXT NOT NULL DEFAULT '[]';
ALTER TABLE image_revision ADD COLUMN retired BIGINT;
ALTER TABLE image_revision ADD COLUMN verified BIGINT;
ALTER TABLE image_revision ADD COLUMN damaged TEXT NOT NULL DEFAULT '[]';

ALTER TABLE loader ADD COLUMN language TEXT NOT NULL DEFAULT 'grub';
ALTER TABLE loader ADD COLUMN facts TEXT NOT NULL DEFAULT '{}';

ALTER TABLE machine ADD COLUMN labels TEXT NOT NULL DEFAULT '[]';
ALTER TABLE machine ADD COLUMN facts TEXT NOT NULL DEFAULT '{}';
ALTER TABLE machine ADD COLUMN parameters TEXT NOT NULL DEFAULT '[]';
ALTER TABLE machine ADD COLUMN menu TEXT;

ALTER TABLE subnet ADD COLUMN menu TEXT;

-- `guards` holds hashes by the path of an entry's keys; `draft` is the menu as it was entered, without phrases.
CREATE TABLE menu (
    id     TEXT PRIMARY KEY NOT NULL,
    name   TEXT NOT NULL UNIQUE,
    draft  TEXT NOT NULL,
    guards TEXT NOT NULL
);

CREATE TABLE label (
    name       TEXT PRIMARY KEY NOT NULL,
    parameters TEXT NOT NULL,
    menu       TEXT
) WITHOUT ROWID;

-- One row: what holds for the whole site.
CREATE TABLE site_settings (
    id       INTEGER PRIMARY KEY NOT NULL CHECK (id = 1),
    settings TEXT NOT NULL
);
