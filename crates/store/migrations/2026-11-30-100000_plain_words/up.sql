-- Names in plain English. What JSON texts hold is brought to them by `converted.rs`, while `conversion_due` has a row.
ALTER TABLE machine RENAME COLUMN standing TO default_boot;
ALTER TABLE machine RENAME COLUMN facts TO details;
ALTER TABLE subnet RENAME COLUMN response_delay_ms TO head_start_ms;
ALTER TABLE handover RENAME TO webhook;
ALTER TABLE delivery RENAME COLUMN handover TO webhook;
UPDATE install SET armed_by = 'default boot' WHERE armed_by = 'its standing';

ALTER TABLE machine ADD COLUMN without_parameters TEXT NOT NULL DEFAULT '[]';
ALTER TABLE image_revision ADD COLUMN without_parameters TEXT NOT NULL DEFAULT '[]';
ALTER TABLE label ADD COLUMN without_parameters TEXT NOT NULL DEFAULT '[]';

-- Labels applied in the order of their names: their ranks keep that order.
ALTER TABLE label ADD COLUMN rank INTEGER NOT NULL DEFAULT 100;
INSERT INTO label (name, parameters)
    SELECT DISTINCT name, '[]' FROM answers_version
    WHERE scope = 'label' AND name NOT IN (SELECT name FROM label);
UPDATE label SET rank = 10 * (SELECT COUNT(*) FROM label AS other WHERE other.name <= label.name);

CREATE TABLE conversion_due (
    name TEXT PRIMARY KEY NOT NULL
) WITHOUT ROWID;
INSERT INTO conversion_due (name) VALUES ('plain words');

-- What happened today is looked up often.
CREATE INDEX install_ended ON install (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX install_armed ON install (armed_at);
