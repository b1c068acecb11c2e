-- Leases as they come, one after another: appending touches one page where a change in `lease` touches one a lease.
-- Folded into `lease` when nothing is going on. Of several rows of an address the last counts, and before what `lease` has.
CREATE TABLE lease_journal (
    seq       INTEGER PRIMARY KEY NOT NULL,
    address   TEXT NOT NULL,
    subnet_id TEXT NOT NULL,
    client    TEXT NOT NULL,
    state     TEXT NOT NULL,
    since     BIGINT NOT NULL,
    until     BIGINT NOT NULL
);
