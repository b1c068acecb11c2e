DROP TABLE reservation;
ALTER TABLE machine DROP COLUMN options;
ALTER TABLE subnet DROP COLUMN options;
ALTER TABLE subnet DROP COLUMN http_boot;
ALTER TABLE subnet DROP COLUMN response_delay_ms;
ALTER TABLE subnet DROP COLUMN authoritative;
ALTER TABLE subnet DROP COLUMN probe;
ALTER TABLE subnet DROP COLUMN vlan;
ALTER TABLE subnet DROP COLUMN exclusions;
-- The first loader of each architecture stays.
CREATE TABLE loader_by_architecture (
    id           TEXT PRIMARY KEY NOT NULL,
    name         TEXT NOT NULL UNIQUE,
    architecture TEXT NOT NULL UNIQUE,
    boot_file    TEXT NOT NULL,
    http         TEXT NOT NULL,
    files        TEXT NOT NULL
);
INSERT OR IGNORE INTO loader_by_architecture (id, name, architecture, boot_file, http, files)
    SELECT id, name, architecture, boot_file, http, files FROM loader ORDER BY class IS NOT NULL, user_class IS NOT NULL;
DROP TABLE loader;
ALTER TABLE loader_by_architecture RENAME TO loader;
