-- Every version, class and activation; sessions handed over; settings agreed upon; accounts towards devices.

ALTER TABLE devices
    MODIFY COLUMN app_key_sealed VARBINARY(80) NULL,
    ADD COLUMN nwk_key_sealed VARBINARY(80) NULL AFTER app_key_sealed,
    -- The session of a device that is activated by personalization.
    ADD COLUMN personal_addr INT UNSIGNED NULL AFTER nwk_key_sealed,
    ADD COLUMN personal_keys_sealed VARBINARY(120) NULL AFTER personal_addr,
    -- Radio and MAC, where they are not the region's.
    ADD COLUMN radio JSON NOT NULL DEFAULT '{}' AFTER region;

ALTER TABLE gateways ADD COLUMN beacons BOOLEAN NOT NULL DEFAULT FALSE AFTER antenna_gain_dbi;

ALTER TABLE fleets
    ADD COLUMN airtime_a_day_us BIGINT UNSIGNED NULL,
    ADD COLUMN downlinks_a_day INT UNSIGNED NULL;

CREATE TABLE nonces (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    next_join_nonce INT UNSIGNED NOT NULL,
    rj_count_1 SMALLINT UNSIGNED NULL
);
INSERT INTO nonces (dev_eui, next_join_nonce) SELECT dev_eui, next_join_nonce FROM sessions;

-- A session agreed upon stands beside the running one until the first uplink under it.
ALTER TABLE sessions
    DROP PRIMARY KEY,
    DROP COLUMN next_join_nonce,
    ADD COLUMN stage ENUM('running', 'next') NOT NULL DEFAULT 'running' AFTER dev_eui,
    ADD COLUMN speaks_1_1 BOOLEAN NOT NULL DEFAULT FALSE AFTER keys_sealed,
    -- What the device is known to be set to; sessions from before this was kept have none.
    ADD COLUMN settings JSON NULL AFTER speaks_1_1,
    MODIFY COLUMN keys_sealed VARBINARY(120) NOT NULL,
    ADD PRIMARY KEY (dev_eui, stage);

ALTER TABLE counters
    ADD COLUMN next_app_down INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN confirmed_down INT UNSIGNED NULL,
    ADD COLUMN rj_count_0 SMALLINT UNSIGNED NULL;

ALTER TABLE outbox
    ADD COLUMN max_attempts TINYINT UNSIGNED NULL AFTER attempts,
    ADD COLUMN expires_at DATETIME(6) NULL AFTER max_attempts;

-- The gateways that heard a device last: the way to one of class B or C before it sends again.
CREATE TABLE near_gateways (
    dev_eui BINARY(8) NOT NULL PRIMARY KEY,
    near JSON NOT NULL
);

-- What gateways send to a device has an account of its own.
ALTER TABLE airtime MODIFY COLUMN transmitter ENUM('gateway', 'device', 'towards') NOT NULL;

-- Multicast groups; the EUI is of the network's own making, so that outbox and messages are like a device's.
CREATE TABLE multicast_groups (
    group_eui BINARY(8) NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    fleet_id INT UNSIGNED NOT NULL,
    name VARCHAR(80) NOT NULL,
    region VARCHAR(12) CHARACTER SET ascii NOT NULL,
    class ENUM('B', 'C') NOT NULL,
    address INT UNSIGNED NOT NULL,
    keys_sealed VARBINARY(80) NOT NULL,
    frequency_hz INT UNSIGNED NOT NULL,
    data_rate TINYINT UNSIGNED NOT NULL,
    ping_periodicity TINYINT UNSIGNED NOT NULL,
    added_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, name),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (fleet_id) REFERENCES fleets (id)
);

CREATE TABLE multicast_members (
    group_eui BINARY(8) NOT NULL,
    dev_eui BINARY(8) NOT NULL,
    PRIMARY KEY (group_eui, dev_eui),
    KEY (dev_eui),
    FOREIGN KEY (group_eui) REFERENCES multicast_groups (group_eui) ON DELETE CASCADE,
    FOREIGN KEY (dev_eui) REFERENCES devices (dev_eui) ON DELETE CASCADE
);

CREATE TABLE multicast_counters (
    group_eui BINARY(8) NOT NULL PRIMARY KEY,
    next_down INT UNSIGNED NOT NULL
);
