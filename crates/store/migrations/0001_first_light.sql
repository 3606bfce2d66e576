-- Times are UTC. EUIs are stored most significant byte first, so they sort as they are written.

CREATE TABLE estates (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    slug VARCHAR(60) CHARACTER SET ascii NOT NULL UNIQUE,
    name VARCHAR(80) NOT NULL,
    added_at DATETIME(6) NOT NULL
);

CREATE TABLE people (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(80) NOT NULL UNIQUE,
    password_hash VARCHAR(200) CHARACTER SET ascii NOT NULL,
    added_at DATETIME(6) NOT NULL
);

CREATE TABLE memberships (
    estate_id INT UNSIGNED NOT NULL,
    person_id INT UNSIGNED NOT NULL,
    role VARCHAR(20) CHARACTER SET ascii NOT NULL,
    PRIMARY KEY (estate_id, person_id),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (person_id) REFERENCES people (id)
);

-- The token itself is not stored, only its SHA-256.
CREATE TABLE sign_ins (
    token_hash BINARY(32) NOT NULL PRIMARY KEY,
    person_id INT UNSIGNED NOT NULL,
    added_at DATETIME(6) NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    KEY (expires_at),
    FOREIGN KEY (person_id) REFERENCES people (id)
);

CREATE TABLE gateways (
    eui BINARY(8) NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    name VARCHAR(80) NOT NULL,
    region VARCHAR(12) CHARACTER SET ascii NOT NULL,
    latitude_deg DOUBLE NULL,
    longitude_deg DOUBLE NULL,
    altitude_m DOUBLE NULL,
    antenna_gain_dbi FLOAT NOT NULL,
    added_at DATETIME(6) NOT NULL,
    last_heard DATETIME(6) NULL,
    UNIQUE KEY (estate_id, name),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);

CREATE TABLE fleets (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    slug VARCHAR(60) CHARACTER SET ascii NOT NULL,
    name VARCHAR(80) NOT NULL,
    added_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, slug),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);

CREATE TABLE models (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    slug VARCHAR(60) CHARACTER SET ascii NOT NULL,
    maker VARCHAR(80) NOT NULL,
    name VARCHAR(80) NOT NULL,
    decoder MEDIUMTEXT NULL,
    units JSON NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, slug),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);

-- Keys are sealed with AES-256-GCM under the master key; see vault.rs.
CREATE TABLE devices (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    fleet_id INT UNSIGNED NOT NULL,
    model_id INT UNSIGNED NULL,
    join_eui BINARY(8) NOT NULL,
    app_key_sealed VARBINARY(80) NOT NULL,
    name VARCHAR(80) NOT NULL,
    region VARCHAR(12) CHARACTER SET ascii NOT NULL,
    added_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, name),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (fleet_id) REFERENCES fleets (id),
    FOREIGN KEY (model_id) REFERENCES models (id)
);

-- What follows is written by the engine in group commits. It carries no foreign keys: a device may
-- be removed while its last frames are still on their way here.

CREATE TABLE sessions (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    dev_addr INT UNSIGNED NOT NULL,
    keys_sealed VARBINARY(80) NOT NULL,
    next_join_nonce INT UNSIGNED NOT NULL,
    joined_at DATETIME(6) NOT NULL
);

CREATE TABLE counters (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    up INT UNSIGNED NULL,
    last_mic BINARY(4) NOT NULL,
    next_down INT UNSIGNED NOT NULL
);

CREATE TABLE dev_nonces (
    dev_eui BINARY(8) NOT NULL,
    dev_nonce SMALLINT UNSIGNED NOT NULL,
    PRIMARY KEY (dev_eui, dev_nonce)
);

CREATE TABLE outbox (
    id BINARY(16) NOT NULL PRIMARY KEY,
    dev_eui BINARY(8) NOT NULL,
    port TINYINT UNSIGNED NOT NULL,
    payload VARBINARY(255) NOT NULL,
    confirmed BOOLEAN NOT NULL,
    state VARCHAR(16) CHARACTER SET ascii NOT NULL,
    note VARCHAR(500) NULL,
    counter INT UNSIGNED NULL,
    attempts TINYINT UNSIGNED NOT NULL,
    added_at DATETIME(6) NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    KEY (dev_eui, id),
    KEY (state)
);

-- Airtime by transmitter, sub-band and minute; minutes are counted from 1970.
CREATE TABLE airtime (
    transmitter ENUM('gateway', 'device') NOT NULL,
    eui BINARY(8) NOT NULL,
    sub_band VARCHAR(8) CHARACTER SET ascii NOT NULL,
    minute INT UNSIGNED NOT NULL,
    airtime_us BIGINT UNSIGNED NOT NULL,
    frames INT UNSIGNED NOT NULL,
    PRIMARY KEY (transmitter, eui, sub_band, minute),
    KEY (minute)
);

CREATE TABLE activity (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    last_heard DATETIME(6) NULL,
    rhythm_s DOUBLE NULL,
    refusal JSON NULL,
    refused_at DATETIME(6) NULL
);

-- The history: each message as it was published. Identifiers are ULIDs, so they sort by time.
CREATE TABLE messages (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    dev_eui BINARY(8) NULL,
    kind VARCHAR(12) CHARACTER SET ascii NOT NULL,
    body JSON NOT NULL,
    KEY (estate_id, id),
    KEY (dev_eui, id)
);

-- Uplinks that are stored but not decoded yet; what is left here after a crash is taken up again.
CREATE TABLE undecoded (
    message_id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY
);

CREATE TABLE last_readings (
    dev_eui BINARY(8) NOT NULL,
    name VARCHAR(120) NOT NULL,
    reading JSON NOT NULL,
    time DATETIME(6) NOT NULL,
    PRIMARY KEY (dev_eui, name)
);
