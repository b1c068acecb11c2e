-- Times are milliseconds since 1970-01-01T00:00Z. Lists and nested settings are JSON texts.

CREATE TABLE subnet (
    id         TEXT PRIMARY KEY NOT NULL,
    name       TEXT NOT NULL UNIQUE,
    network    TEXT NOT NULL UNIQUE,
    mode       TEXT NOT NULL,
    router     TEXT,
    dns        TEXT NOT NULL,
    domain     TEXT,
    ntp        TEXT NOT NULL,
    lease_secs BIGINT NOT NULL,
    pools      TEXT NOT NULL,
    interface  TEXT,
    relays     TEXT NOT NULL,
    newcomers  TEXT NOT NULL
);

-- No reference to subnet: a lease outlives the subnet it was given on until it runs out.
CREATE TABLE lease (
    address   TEXT PRIMARY KEY NOT NULL,
    subnet_id TEXT NOT NULL,
    client    TEXT NOT NULL,
    state     TEXT NOT NULL,
    since     BIGINT NOT NULL,
    until     BIGINT NOT NULL
) WITHOUT ROWID;

CREATE TABLE loader (
    id           TEXT PRIMARY KEY NOT NULL,
    name         TEXT NOT NULL UNIQUE,
    architecture TEXT NOT NULL UNIQUE,
    boot_file    TEXT NOT NULL,
    http         TEXT NOT NULL,
    files        TEXT NOT NULL
);

CREATE TABLE image (
    id    TEXT PRIMARY KEY NOT NULL,
    name  TEXT NOT NULL UNIQUE,
    title TEXT NOT NULL,
    kind  TEXT NOT NULL,
    current_revision_id TEXT NOT NULL
);

CREATE TABLE image_revision (
    id         TEXT PRIMARY KEY NOT NULL,
    image_id   TEXT NOT NULL REFERENCES image (id) ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED,
    number     INTEGER NOT NULL,
    created    BIGINT NOT NULL,
    family     TEXT NOT NULL,
    kernel     TEXT NOT NULL,
    initrds    TEXT NOT NULL,
    parameters TEXT NOT NULL,
    files      TEXT NOT NULL,
    UNIQUE (image_id, number)
);

CREATE TABLE answers_version (
    id       TEXT PRIMARY KEY NOT NULL,
    name     TEXT NOT NULL,
    number   INTEGER NOT NULL,
    created  BIGINT NOT NULL,
    settings TEXT NOT NULL,
    -- A removed set keeps its versions, for the installs that name them.
    removed  BOOLEAN NOT NULL DEFAULT FALSE,
    UNIQUE (name, number)
);

CREATE TABLE machine (
    id       TEXT PRIMARY KEY NOT NULL,
    name     TEXT NOT NULL UNIQUE,
    standing TEXT NOT NULL,
    live_image_id TEXT REFERENCES image (id),
    created  BIGINT NOT NULL
);

CREATE TABLE nic (
    mac        TEXT PRIMARY KEY NOT NULL,
    machine_id TEXT NOT NULL REFERENCES machine (id) ON DELETE CASCADE,
    place      INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX nic_of_machine ON nic (machine_id);

-- No reference to machine or image: the record stays when they leave.
CREATE TABLE install (
    number         BIGINT PRIMARY KEY NOT NULL,
    machine_id     TEXT NOT NULL,
    machine_name   TEXT NOT NULL,
    revision_id    TEXT NOT NULL,
    image          TEXT NOT NULL,
    image_title    TEXT NOT NULL,
    image_revision INTEGER NOT NULL,
    manifest_hash  TEXT NOT NULL,
    answers_id     TEXT NOT NULL,
    answers_name   TEXT NOT NULL,
    answers_version INTEGER NOT NULL,
    state          TEXT NOT NULL,
    token          TEXT NOT NULL UNIQUE,
    armed_by       TEXT NOT NULL,
    armed_at       BIGINT NOT NULL,
    booting_at     BIGINT,
    installing_at  BIGINT,
    ended_at       BIGINT,
    answer_hash    TEXT,
    kernel_fetches INTEGER NOT NULL,
    reason         TEXT,
    last_step      TEXT,
    last_step_at   BIGINT NOT NULL
);
CREATE INDEX install_of_machine ON install (machine_id, number);
-- One machine has one install that goes on.
CREATE UNIQUE INDEX install_open ON install (machine_id) WHERE state IN ('armed', 'booting', 'installing');

CREATE TABLE install_step (
    id             INTEGER PRIMARY KEY NOT NULL,
    install_number BIGINT NOT NULL REFERENCES install (number) ON DELETE CASCADE,
    at             BIGINT NOT NULL,
    kind           TEXT NOT NULL,
    detail         TEXT NOT NULL
);
CREATE INDEX install_step_of_install ON install_step (install_number, id);
