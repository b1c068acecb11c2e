INSERT OR REPLACE INTO lease SELECT address, subnet_id, client, state, since, until FROM lease_journal
    WHERE seq IN (SELECT max(seq) FROM lease_journal GROUP BY address);
DROP TABLE lease_journal;
