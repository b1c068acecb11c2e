ALTER TABLE subnet ADD COLUMN exclusions TEXT NOT NULL DEFAULT '[]';
ALTER TABLE subnet ADD COLUMN vlan INTEGER;
ALTER TABLE subnet ADD COLUMN probe BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE subnet ADD COLUMN authoritative BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE subnet ADD COLUMN response_delay_ms BIGINT NOT NULL DEFAULT 0;
ALTER TABLE subnet ADD COLUMN http_boot TEXT NOT NULL DEFAULT 'http';
ALTER TABLE subnet ADD COLUMN options TEXT NOT NULL DEFAULT '{}';

ALTER TABLE machine ADD COLUMN options TEXT NOT NULL DEFAULT '{}';

CREATE TABLE reservation (
    address   TEXT PRIMARY KEY NOT NULL,
    subnet_id TEXT NOT NULL REFERENCES subnet (id) ON DELETE CASCADE,
    client    TEXT NOT NULL,
    UNIQUE (subnet_id, client)
) WITHOUT ROWID;

-- An architecture may have several loaders by now, told apart by the client's classes.
CREATE TABLE loader_by_class (
    id           TEXT PRIMARY KEY NOT NULL,
    name         TEXT NOT NULL UNIQUE,
    architecture TEXT NOT NULL,
    class        TEXT,
    user_class   TEXT,
    boot_file    TEXT NOT NULL,
    http         TEXT NOT NULL,
    files        TEXT NOT NULL
);
INSERT INTO loader_by_class (id, name, architecture, boot_file, http, files)
    SELECT id, name, architecture, boot_file, http, files FROM loader;
DROP TABLE loader;
ALTER TABLE loader_by_class RENAME TO loader;
