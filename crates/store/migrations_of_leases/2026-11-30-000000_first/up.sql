-- Times are milliseconds since 1970-01-01T00:00Z. Of two records of one address the one with the higher version counts.
CREATE TABLE lease (
    address   TEXT PRIMARY KEY NOT NULL,
    subnet_id TEXT NOT NULL,
    client    TEXT NOT NULL,
    state     TEXT NOT NULL,
    since     BIGINT NOT NULL,
    until     BIGINT NOT NULL,
    version   BIGINT NOT NULL
) WITHOUT ROWID;

-- Leases as they come, one after another: appending touches one page where a change in `lease` touches one a lease.
-- Folded into `lease` when nothing is going on.
CREATE TABLE lease_journal (
    seq       INTEGER PRIMARY KEY NOT NULL,
    address   TEXT NOT NULL,
    subnet_id TEXT NOT NULL,
    client    TEXT NOT NULL,
    state     TEXT NOT NULL,
    since     BIGINT NOT NULL,
    until     BIGINT NOT NULL,
    version   BIGINT NOT NULL
);
