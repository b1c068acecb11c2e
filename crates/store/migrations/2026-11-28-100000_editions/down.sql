DROP TABLE edition;
ALTER TABLE lease DROP COLUMN version;
ALTER TABLE lease_journal DROP COLUMN version;
ALTER TABLE subnet DROP COLUMN identify;
DROP TABLE address_note;
DROP INDEX machine_name_alike;
DROP TABLE image_number;
