-- Settings are said of the site, of answers, of labels and of machines; installs keep what they were armed with.
ALTER TABLE answers_version RENAME TO answers_before;
CREATE TABLE answers_version (
    id       TEXT PRIMARY KEY NOT NULL,
    name     TEXT NOT NULL,
    number   INTEGER NOT NULL,
    created  BIGINT NOT NULL,
    settings TEXT NOT NULL,
    removed  BOOLEAN NOT NULL DEFAULT FALSE,
    -- site, answers, label or machine; `name` is empty for the site, and an identity for a machine.
    scope    TEXT NOT NULL DEFAULT 'answers',
    UNIQUE (scope, name, number)
);
INSERT INTO answers_version (id, name, number, created, settings, removed)
    SELECT id, name, number, created, settings, removed FROM answers_before;
DROP TABLE answers_before;

ALTER TABLE install ADD COLUMN layers TEXT NOT NULL DEFAULT '[]';
ALTER TABLE install ADD COLUMN asked TEXT NOT NULL DEFAULT '{}';
ALTER TABLE install ADD COLUMN open_questions TEXT NOT NULL DEFAULT '{}';
ALTER TABLE install ADD COLUMN outcome TEXT;

-- The first form of settings, in the words of the second. A merge patch drops what is null (RFC 7396).
UPDATE answers_version SET settings = json_patch('{}', json_object(
    'locale', json_extract(settings, '$.locale'),
    'keyboard', json_extract(settings, '$.keyboard'),
    'time_zone', json_extract(settings, '$.time_zone'),
    'ntp', json(CASE WHEN json_extract(settings, '$.ntp') IS NOT NULL
        THEN json_array(json_extract(settings, '$.ntp')) END),
    'domain', json_extract(settings, '$.domain'),
    'proxy', json_extract(settings, '$.mirror.proxy'),
    'root', json(CASE WHEN json_extract(settings, '$.root_password') IS NOT NULL
        THEN json_object('password', json_object('hash', json_extract(settings, '$.root_password'))) END),
    'users', json_object(json_extract(settings, '$.user.name'), json_object(
        'full_name', json_extract(settings, '$.user.full_name'),
        'password', json_object('hash', json_extract(settings, '$.user.password')),
        'sudo', 'password')),
    'storage', json_object(
        'layout', json_extract(settings, '$.disk.layout'),
        'disks', json(CASE WHEN json_extract(settings, '$.disk.device') IS NOT NULL
            THEN json_object('system', json_object('device', json_extract(settings, '$.disk.device'))) END),
        -- The installers' own arrangement has ext4; another file system needs its volume said.
        'volumes', json(CASE WHEN json_extract(settings, '$.disk.file_system') <> 'ext4'
            THEN json_array(json_object('mount', '/', 'size', 'rest',
                'file_system', json_extract(settings, '$.disk.file_system'))) END)),
    'software', json_object(
        'packages', json_extract(settings, '$.packages'),
        'source', CASE WHEN json_extract(settings, '$.mirror.host') IS NOT NULL
            THEN 'http://' || json_extract(settings, '$.mirror.host') || json_extract(settings, '$.mirror.directory') END),
    'at_end', json_extract(settings, '$.at_end'),
    'installer_parameters', json_extract(settings, '$.parameters')
));
