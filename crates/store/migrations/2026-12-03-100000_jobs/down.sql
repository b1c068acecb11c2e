ALTER TABLE rule DROP COLUMN jobs;
DROP TABLE job_screen;
DROP TABLE job_log;
DROP TABLE job_step;
DROP TABLE job;
