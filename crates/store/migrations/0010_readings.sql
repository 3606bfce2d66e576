-- Readings: what they mean, their history, and what decoders have made of uplinks.

ALTER TABLE models CHANGE COLUMN units readings LONGTEXT NOT NULL;

-- What a running total goes on from, and how often a reading comes.
ALTER TABLE last_readings
    ADD COLUMN counter DOUBLE NULL,
    ADD COLUMN carried DOUBLE NULL,
    ADD COLUMN interval_s DOUBLE NULL;

-- One reading of one device. Numbers, since each of its values carries it.
CREATE TABLE series (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    dev_eui BINARY(8) NOT NULL,
    name VARCHAR(120) NOT NULL,
    UNIQUE KEY (dev_eui, name)
);

-- Every value. Times are milliseconds since 1970; a boolean is 0 or 1, a text stands in `word`. There is a partition for
-- each month, made by the service ahead of time; `earlier` and `later` hold what lies outside.
CREATE TABLE history (
    series_id INT UNSIGNED NOT NULL,
    at_ms BIGINT NOT NULL,
    value DOUBLE NULL,
    word VARCHAR(200) NULL,
    PRIMARY KEY (series_id, at_ms)
) PARTITION BY RANGE (at_ms) (PARTITION later VALUES LESS THAN MAXVALUE);

-- Summaries, made from it: hours and days are counted from 1970.
CREATE TABLE hourly (
    series_id INT UNSIGNED NOT NULL,
    hour INT UNSIGNED NOT NULL,
    count INT UNSIGNED NOT NULL,
    least DOUBLE NOT NULL,
    sum DOUBLE NOT NULL,
    most DOUBLE NOT NULL,
    PRIMARY KEY (series_id, hour)
);
CREATE TABLE daily (
    series_id INT UNSIGNED NOT NULL,
    day INT UNSIGNED NOT NULL,
    count INT UNSIGNED NOT NULL,
    least DOUBLE NOT NULL,
    sum DOUBLE NOT NULL,
    most DOUBLE NOT NULL,
    PRIMARY KEY (series_id, day)
);
-- Hours that got values after they were over: their summaries are made anew.
CREATE TABLE late_hours (
    series_id INT UNSIGNED NOT NULL,
    hour INT UNSIGNED NOT NULL,
    PRIMARY KEY (series_id, hour)
);
-- Hours before this one have their summaries.
CREATE TABLE history_mark (
    id TINYINT UNSIGNED NOT NULL PRIMARY KEY CHECK (id = 1),
    summed_until_hour INT UNSIGNED NOT NULL
);

-- How long a fleet's history is kept; for ever if not given.
ALTER TABLE fleets
    ADD COLUMN keep_values_days INT UNSIGNED NULL,
    ADD COLUMN keep_summaries_days INT UNSIGNED NULL,
    ADD COLUMN keep_messages_days INT UNSIGNED NULL;

-- A model each time it was saved.
CREATE TABLE model_editions (
    model_id INT UNSIGNED NOT NULL,
    number INT UNSIGNED NOT NULL,
    about LONGTEXT NOT NULL,
    flaw TEXT NULL,
    note VARCHAR(300) NOT NULL,
    saved_by VARCHAR(80) NOT NULL,
    saved_at DATETIME(6) NOT NULL,
    PRIMARY KEY (model_id, number),
    FOREIGN KEY (model_id) REFERENCES models (id) ON DELETE CASCADE
);

-- Uplinks that decoders could not read, since their model was last changed.
CREATE TABLE decode_failures (
    dev_eui BINARY(8) NOT NULL,
    model VARCHAR(60) CHARACTER SET ascii NOT NULL,
    failures INT UNSIGNED NOT NULL,
    first_message CHAR(26) CHARACTER SET ascii NOT NULL,
    first_at DATETIME(6) NOT NULL,
    last_at DATETIME(6) NOT NULL,
    why VARCHAR(500) NOT NULL,
    PRIMARY KEY (dev_eui, model)
);

-- Work that takes a while. What it has made so far stands beside what is there until all of it is done.
CREATE TABLE jobs (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    wanted LONGTEXT NOT NULL,
    state VARCHAR(12) CHARACTER SET ascii NOT NULL,
    done INT UNSIGNED NOT NULL,
    total INT UNSIGNED NOT NULL,
    failed INT UNSIGNED NOT NULL,
    note VARCHAR(500) NOT NULL,
    begun_by VARCHAR(80) NOT NULL,
    begun_at DATETIME(6) NOT NULL,
    ended_at DATETIME(6) NULL,
    KEY (estate_id, id),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);
CREATE TABLE decoded_anew (
    job_id CHAR(26) CHARACTER SET ascii NOT NULL,
    message_id CHAR(26) CHARACTER SET ascii NOT NULL,
    body LONGTEXT NOT NULL,
    PRIMARY KEY (job_id, message_id),
    FOREIGN KEY (job_id) REFERENCES jobs (id) ON DELETE CASCADE
);

-- Series of devices that are gone; their values go little by little.
CREATE TABLE ended_series (
    id INT UNSIGNED NOT NULL PRIMARY KEY
);
