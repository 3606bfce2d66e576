-- Up to when heard frames are processed and in these tables; what the journal has from after that is not.
CREATE TABLE journal_mark (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (id = 1),
    processed_until_us BIGINT NOT NULL
);

-- When a device last said that it listens: a restart must not forget that it is one of class B.
ALTER TABLE near_gateways ADD COLUMN class ENUM('A', 'B', 'C') NULL AFTER dev_eui;
