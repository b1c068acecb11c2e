ALTER TABLE machine DROP COLUMN given;
DROP TABLE location;
DROP TABLE rule_use;
DROP TABLE proposal;
DROP TABLE rule;
