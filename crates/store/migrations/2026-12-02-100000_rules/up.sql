-- What follows for machines of what was measured of them.
CREATE TABLE rule (
    name         TEXT PRIMARY KEY NOT NULL,
    rank         INTEGER NOT NULL,
    mode         TEXT NOT NULL,
    condition    TEXT NOT NULL,
    labels       TEXT NOT NULL,
    details      TEXT NOT NULL,
    location     BOOLEAN NOT NULL,
    machine_name TEXT,
    address      TEXT,
    default_boot TEXT,
    arm          BOOLEAN NOT NULL,
    image        TEXT,
    answers      TEXT,
    hourly_limit INTEGER NOT NULL
) WITHOUT ROWID;

-- Of whom something is proposed.
CREATE TABLE proposal (
    mac      TEXT PRIMARY KEY NOT NULL,
    since    BIGINT NOT NULL,
    declined TEXT
) WITHOUT ROWID;

-- Each time that a rule changed a machine.
CREATE TABLE rule_use (
    id      INTEGER PRIMARY KEY NOT NULL,
    at      BIGINT NOT NULL,
    rule    TEXT NOT NULL,
    machine TEXT NOT NULL,
    mac     TEXT NOT NULL,
    counter BIGINT,
    changes TEXT NOT NULL,
    who     TEXT
);
CREATE INDEX rule_use_of_rule ON rule_use (rule, at);
CREATE INDEX rule_use_counter ON rule_use (rule, counter);
CREATE INDEX rule_use_of_address ON rule_use (mac, at);

-- Where each port of a switch is.
CREATE TABLE location (
    switch TEXT NOT NULL,
    port   TEXT NOT NULL,
    hall   TEXT NOT NULL,
    row    TEXT NOT NULL,
    rack   TEXT NOT NULL,
    unit   TEXT NOT NULL,
    PRIMARY KEY (switch, port)
) WITHOUT ROWID;

-- What rules gave a machine.
ALTER TABLE machine ADD COLUMN given TEXT NOT NULL DEFAULT '{}';
