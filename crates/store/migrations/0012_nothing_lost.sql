-- What may never be lost, and never be used twice.

-- A sub-band is named by the limits of its region, which may be longer than a letter.
ALTER TABLE airtime MODIFY COLUMN sub_band VARCHAR(40) CHARACTER SET ascii NOT NULL;

-- How far the engine has come in the journal: frames before this position were handed to it.
ALTER TABLE journal_mark ADD COLUMN position BIGINT UNSIGNED NULL;

-- Who may write here. An instance that starts raises the epoch; each commit checks it and counts up.
CREATE TABLE instance (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (id = 1),
    -- Names this database and every copy of it.
    database_id CHAR(26) CHARACTER SET ascii NOT NULL,
    epoch BIGINT UNSIGNED NOT NULL,
    commits BIGINT UNSIGNED NOT NULL,
    holder VARCHAR(300) NOT NULL,
    machine VARCHAR(80) NOT NULL,
    process INT UNSIGNED NOT NULL,
    started BIGINT UNSIGNED NOT NULL,
    renewed_at DATETIME(6) NOT NULL
) CHARACTER SET utf8mb4;

-- The last messages that were written beside their state, in a transaction of their own. If that commit did not
-- follow, nobody was told of them, and they will come again.
CREATE TABLE message_group (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (id = 1),
    commits BIGINT UNSIGNED NOT NULL,
    first_message CHAR(26) CHARACTER SET ascii NOT NULL,
    last_message CHAR(26) CHARACTER SET ascii NOT NULL
);
