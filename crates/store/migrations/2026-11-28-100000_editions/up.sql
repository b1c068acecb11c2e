-- Which saved form of each thing is the present one; the row 'last' has the last number that was taken.
CREATE TABLE edition (
    entity TEXT PRIMARY KEY NOT NULL,
    number BIGINT NOT NULL
) WITHOUT ROWID;

-- Of two records of one address the one with the higher version counts, in whatever order they came here.
ALTER TABLE lease ADD COLUMN version BIGINT NOT NULL DEFAULT 0;
ALTER TABLE lease_journal ADD COLUMN version BIGINT NOT NULL DEFAULT 0;
UPDATE lease_journal SET version = seq;

-- By what machines of a subnet are known when they ask for something.
ALTER TABLE subnet ADD COLUMN identify TEXT NOT NULL DEFAULT 'address';
UPDATE subnet SET identify = 'first-claim' WHERE mode = 'off';

-- Addresses of machines that no lease of ours says: overheard of another DHCP server ('heard'), or the first that claimed the
-- machine during a boot ('claim').
CREATE TABLE address_note (
    kind    TEXT NOT NULL,
    mac     TEXT NOT NULL,
    address TEXT NOT NULL,
    at      BIGINT NOT NULL,
    PRIMARY KEY (kind, mac)
) WITHOUT ROWID;

-- Case makes no difference in host names: of two machines whose names differed in it alone, the later one has more of a name.
UPDATE machine SET name = name || '-' || substr(id, 29)
    WHERE EXISTS (SELECT 1 FROM machine AS other WHERE lower(other.name) = lower(machine.name) AND other.id < machine.id);
CREATE UNIQUE INDEX machine_name_alike ON machine (lower(name));

-- The last number that a revision of an image of that name ever had: installs on record name revisions by it.
CREATE TABLE image_number (
    name TEXT PRIMARY KEY NOT NULL,
    last INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO image_number (name, last)
    SELECT name, max(last) FROM (
        SELECT name, last_number AS last FROM image
        UNION ALL SELECT image, image_revision FROM install
    ) GROUP BY name;
