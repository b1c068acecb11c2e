DROP TABLE lease_journal;
DROP TABLE lease;
