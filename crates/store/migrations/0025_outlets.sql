-- The order in which messages were committed: the number of the commit times 2^20, plus the message's place in it. Outlets
-- go on from such a number. A message has none until it is whole, so until it is decoded; those from before have none.
ALTER TABLE messages ADD COLUMN IF NOT EXISTS told BIGINT UNSIGNED NULL;
ALTER TABLE messages ADD INDEX IF NOT EXISTS told (estate_id, told);
-- Where messages are delivered. `undone` are numbers below `position` that are still to be delivered.
CREATE TABLE IF NOT EXISTS outlets (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    slug VARCHAR(60) CHARACTER SET ascii NOT NULL,
    settings MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    secrets_sealed BLOB NULL,
    former_fleets TEXT CHARACTER SET utf8mb4 NOT NULL,
    paused TEXT CHARACTER SET utf8mb4 NULL,
    position BIGINT UNSIGNED NOT NULL,
    undone MEDIUMTEXT CHARACTER SET ascii NOT NULL,
    added_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, slug),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);
-- Messages that an outlet has given up.
CREATE TABLE IF NOT EXISTS dead_letters (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    outlet_id INT UNSIGNED NOT NULL,
    told BIGINT UNSIGNED NOT NULL,
    message_id CHAR(26) CHARACTER SET ascii NOT NULL,
    given_up_at DATETIME(6) NOT NULL,
    about MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    body MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    UNIQUE KEY (outlet_id, message_id),
    KEY (outlet_id, id),
    FOREIGN KEY (outlet_id) REFERENCES outlets (id) ON DELETE CASCADE
);
