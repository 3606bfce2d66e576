-- One downlink for each of many devices, sent one after another.
CREATE TABLE IF NOT EXISTS rounds (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    wanted MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    over_s DOUBLE NOT NULL,
    state VARCHAR(16) CHARACTER SET ascii NOT NULL,
    begun_by VARCHAR(200) CHARACTER SET utf8mb4 NOT NULL,
    begun_at DATETIME(6) NOT NULL,
    ended_at DATETIME(6) NULL,
    KEY (estate_id, id),
    KEY (state)
);
-- A device of a round: what it is sent and when, the downlink in its outbox once it is there, or why there is none.
CREATE TABLE IF NOT EXISTS round_devices (
    round_id CHAR(26) CHARACTER SET ascii NOT NULL,
    dev_eui BINARY(8) NOT NULL,
    due_at DATETIME(6) NOT NULL,
    port TINYINT UNSIGNED NULL,
    payload VARBINARY(255) NULL,
    outbox_id BINARY(16) NULL,
    why VARCHAR(500) CHARACTER SET utf8mb4 NULL,
    PRIMARY KEY (round_id, dev_eui),
    KEY (round_id, outbox_id, due_at)
);
