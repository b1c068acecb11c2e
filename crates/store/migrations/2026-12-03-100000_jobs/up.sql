-- Pieces of work that the survey's agent is given.
CREATE TABLE job (
    number         BIGINT PRIMARY KEY NOT NULL,
    mac            TEXT NOT NULL,
    machine_id     TEXT,
    machine_name   TEXT NOT NULL,
    kind           TEXT NOT NULL,
    task           TEXT NOT NULL,
    afterwards     TEXT,
    state          TEXT NOT NULL,
    armed_by       TEXT NOT NULL,
    armed_at       BIGINT NOT NULL,
    boot           TEXT,
    began_at       BIGINT,
    ended_at       BIGINT,
    kernel_fetches INTEGER NOT NULL,
    result         TEXT,
    reason         TEXT
);
CREATE INDEX job_of_owner ON job (machine_id, mac, kind, number);
CREATE INDEX job_of_machine ON job (machine_name, number);
CREATE INDEX job_open ON job (state) WHERE state IN ('armed', 'running');

-- Jobs that a rule has done first.
ALTER TABLE rule ADD COLUMN jobs TEXT NOT NULL DEFAULT '[]';

-- What happened to each.
CREATE TABLE job_step (
    id         INTEGER PRIMARY KEY NOT NULL,
    job_number BIGINT NOT NULL,
    at         BIGINT NOT NULL,
    text       TEXT NOT NULL
);
CREATE INDEX job_step_of_job ON job_step (job_number);

-- What each wrote. An agent that was cut off writes the same again: a line is told by its place.
CREATE TABLE job_log (
    job_number BIGINT NOT NULL,
    place      BIGINT NOT NULL,
    at         BIGINT NOT NULL,
    line       TEXT NOT NULL,
    PRIMARY KEY (job_number, place)
) WITHOUT ROWID;

-- What each shell's screen showed: what was written on it, and its sizes.
CREATE TABLE job_screen (
    job_number BIGINT NOT NULL,
    place      BIGINT NOT NULL,
    at         BIGINT NOT NULL,
    kind       TEXT NOT NULL,
    content    BLOB NOT NULL,
    -- Bytes of its content and of all before.
    total      BIGINT NOT NULL,
    PRIMARY KEY (job_number, place)
) WITHOUT ROWID;
