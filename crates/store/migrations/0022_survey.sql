-- The survey: uplinks as evidence of coverage. A row is named by its time and the message that it was made of; a place stands in
-- it if the device told it. `heard` is 12 bytes a gateway: its EUI, RSSI and SNR in tenths of a decibel.
CREATE TABLE IF NOT EXISTS observations (
    estate_id INT UNSIGNED NOT NULL,
    id BINARY(16) NOT NULL,
    dev_eui BINARY(8) NOT NULL,
    import_id INT UNSIGNED NULL,
    latitude_deg DOUBLE NULL,
    longitude_deg DOUBLE NULL,
    data_rate TINYINT UNSIGNED NOT NULL,
    needed_snr_db FLOAT NOT NULL,
    power_dbm FLOAT NULL,
    uplinks SMALLINT UNSIGNED NOT NULL,
    lost SMALLINT UNSIGNED NOT NULL,
    heard VARBINARY(480) NOT NULL,
    PRIMARY KEY (estate_id, id),
    KEY (import_id)
);
-- The last message that the survey has taken in.
CREATE TABLE IF NOT EXISTS survey_mark (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    message_id CHAR(26) CHARACTER SET ascii NOT NULL
);
-- Drive tests that were imported.
CREATE TABLE IF NOT EXISTS survey_imports (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    name VARCHAR(80) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
    about MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    UNIQUE KEY (estate_id, name),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);
