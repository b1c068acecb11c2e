-- What each boot of the survey measured. Every one is kept; the latest of each address is read at the start.
CREATE TABLE survey (
    boot       TEXT PRIMARY KEY NOT NULL,
    mac        TEXT NOT NULL,
    machine_id TEXT,
    previous   TEXT,
    began      BIGINT NOT NULL,
    at         BIGINT NOT NULL,
    measured   TEXT NOT NULL,
    changes    TEXT NOT NULL,
    is_latest  BOOLEAN NOT NULL
) WITHOUT ROWID;
CREATE INDEX survey_of_machine ON survey (machine_id, began);
CREATE INDEX survey_of_address ON survey (mac, began);
CREATE INDEX survey_latest ON survey (mac) WHERE is_latest;
