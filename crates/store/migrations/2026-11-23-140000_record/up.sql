-- What an install was armed with and where it booted, for the reports; who was refused; what its installer wrote.
ALTER TABLE install ADD COLUMN labels TEXT NOT NULL DEFAULT '[]';
ALTER TABLE install ADD COLUMN subnet TEXT;
ALTER TABLE install ADD COLUMN is_stateless BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE install ADD COLUMN refused_from TEXT NOT NULL DEFAULT '[]';
CREATE INDEX install_of_image ON install (image, state, number);
CREATE INDEX install_held ON install (state, machine_id, number);

CREATE TABLE install_log (
    id             INTEGER PRIMARY KEY NOT NULL,
    install_number BIGINT NOT NULL REFERENCES install (number) ON DELETE CASCADE,
    at             BIGINT NOT NULL,
    line           TEXT NOT NULL
);
CREATE INDEX install_log_of_install ON install_log (install_number, id);

-- Machines that were removed: what they held stays in the history.
CREATE TABLE machine_left (
    id   TEXT PRIMARY KEY NOT NULL,
    name TEXT NOT NULL,
    macs TEXT NOT NULL,
    at   BIGINT NOT NULL
) WITHOUT ROWID;

-- `signing_key` is sealed with the key beside the database.
CREATE TABLE handover (
    name        TEXT PRIMARY KEY NOT NULL,
    draft       TEXT NOT NULL,
    signing_key TEXT NOT NULL
) WITHOUT ROWID;

-- No reference to handover: what was delivered stays on record.
CREATE TABLE delivery (
    id             INTEGER PRIMARY KEY NOT NULL,
    handover       TEXT NOT NULL,
    install_number BIGINT NOT NULL,
    event          TEXT NOT NULL,
    body           TEXT NOT NULL,
    created        BIGINT NOT NULL,
    attempts       INTEGER NOT NULL DEFAULT 0,
    -- NULL once it is delivered or given up.
    due            BIGINT,
    delivered      BIGINT,
    last_attempt   BIGINT,
    last_answer    TEXT
);
CREATE INDEX delivery_due ON delivery (due) WHERE due IS NOT NULL;

ALTER TABLE machine ADD COLUMN live_answers TEXT;
